/*
 * Makes every sync of a process take longer, and counts the syncs of write-ahead logs: one byte each in a file. While
 * another file exists, these syncs fail.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

static int (*real_fsync)(int);
static int (*real_fdatasync)(int);
static long delay_ms;
static int counter = -1;
static const char *fail_file;

__attribute__((constructor)) static void begin(void) {
  real_fsync = (int (*)(int))dlsym(RTLD_NEXT, "fsync");
  real_fdatasync = (int (*)(int))dlsym(RTLD_NEXT, "fdatasync");
  const char *delay = getenv("SYNC_DELAY_MS");
  const char *file = getenv("SYNC_COUNT_FILE");
  delay_ms = delay ? atol(delay) : 0;
  fail_file = getenv("SYNC_FAIL_FILE");
  if (file) counter = open(file, O_WRONLY | O_CREAT | O_APPEND, 0600);
}

/* Returns whether the sync is to fail. */
static int slow(int fd) {
  struct timespec pause = {delay_ms / 1000, (delay_ms % 1000) * 1000000};
  nanosleep(&pause, NULL);
  char link[64], path[4096];
  snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
  ssize_t length = readlink(link, path, sizeof path - 1);
  if (length < 4) return 0;
  path[length] = 0;
  if (strcmp(path + length - 4, "-wal") != 0) return 0;
  if (counter >= 0 && write(counter, ".", 1) < 0) abort();
  if (!fail_file || access(fail_file, F_OK) != 0) return 0;
  errno = EIO;
  return 1;
}

int fsync(int fd) {
  return slow(fd) ? -1 : real_fsync(fd);
}

int fdatasync(int fd) {
  return slow(fd) ? -1 : real_fdatasync(fd);
}
