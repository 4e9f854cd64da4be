/*
 * Records what a process does to the files below one directory, so that a test can work out what a power cut would
 * leave of them. Preloaded into the process; the records go to a journal file, in the order of the operations.
 *
 * Environment: RECORD_ROOT is the directory, RECORD_JOURNAL the journal. Syncs are recorded but not carried out.
 * With RECORD_DROP_SYNCS they are not even recorded, as if the program had none.
 *
 * A record is: type (1 byte), file descriptor (4), offset or length (8), payload length (4), payload. All little-endian.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <unistd.h>

#define MAX_FD 65536

static char root[4096];
static size_t root_length;
static int journal = -1;
static int drop_syncs;
static unsigned char tracked[MAX_FD];
static pthread_mutex_t mutex = PTHREAD_MUTEX_INITIALIZER;

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

static ssize_t (*real_write)(int, const void *, size_t);

__attribute__((constructor)) static void begin(void) {
  real_write = REAL(write);
  const char *directory = getenv("RECORD_ROOT");
  const char *file = getenv("RECORD_JOURNAL");
  if (!directory || !file || !realpath(directory, root)) return;
  root_length = strlen(root);
  drop_syncs = getenv("RECORD_DROP_SYNCS") != NULL;
  journal = REAL(open)(file, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600);
  if (journal < 0) abort();
}

/* One write per record: a process that is killed leaves at most the last one torn. */
static void append(char type, int fd, uint64_t at, const void *payload, uint32_t length) {
  if (journal < 0) return;
  char small[4096];
  size_t total = 17 + (size_t)length;
  char *record = total <= sizeof small ? small : malloc(total);
  if (!record) abort();
  int32_t number = fd;
  record[0] = type;
  memcpy(record + 1, &number, 4);
  memcpy(record + 5, &at, 8);
  memcpy(record + 13, &length, 4);
  if (length) memcpy(record + 17, payload, length);
  if (real_write(journal, record, total) != (ssize_t)total) abort();
  if (record != small) free(record);
}

/* Makes a path absolute. Returns 0 if it is not below the root. */
static int below(int directory, const char *path, char *out) {
  if (!root_length || !path) return 0;
  if (path[0] == '/') {
    if (strlen(path) >= 4096) return 0;
    strcpy(out, path);
  } else {
    char base[4096];
    if (directory == AT_FDCWD) {
      if (!getcwd(base, sizeof base)) return 0;
    } else {
      char link[64];
      snprintf(link, sizeof link, "/proc/self/fd/%d", directory);
      ssize_t length = readlink(link, base, sizeof base - 1);
      if (length < 0) return 0;
      base[length] = 0;
    }
    if ((size_t)snprintf(out, 4096, "%s/%s", base, path) >= 4096) return 0;
  }
  return strncmp(out, root, root_length) == 0 && (out[root_length] == '/' || out[root_length] == 0);
}

static int is_tracked(int fd) { return fd >= 0 && fd < MAX_FD && tracked[fd]; }

/* Some functions of the C library close a file without calling close(); its number may then be a socket, a pipe or an event. */
static int is_tracked_file(int fd) {
  struct stat status;
  if (!is_tracked(fd)) return 0;
  if (fstat(fd, &status) == 0 && S_ISREG(status.st_mode)) return 1;
  tracked[fd] = 0;
  return 0;
}

static int opened(int fd, int directory, const char *path, int flags, int existed) {
  char full[4096];
  if (fd < 0 || fd >= MAX_FD) return fd;
  if (!below(directory, path, full)) {
    tracked[fd] = 0;
    return fd;
  }
  int error = errno;
  pthread_mutex_lock(&mutex);
  tracked[fd] = 1;
  append(existed ? 'O' : 'N', fd, (flags & O_TRUNC) != 0, full, strlen(full));
  pthread_mutex_unlock(&mutex);
  errno = error;
  return fd;
}

static int open_any(int directory, const char *path, int flags, mode_t mode) {
  char full[4096];
  int existed = 1;
  if ((flags & O_CREAT) && below(directory, path, full)) existed = access(full, F_OK) == 0;
  return opened(REAL(openat)(directory, path, flags, mode), directory, path, flags, existed);
}

#define MODE(flags)                                                  \
  mode_t mode = 0;                                                   \
  if ((flags) & (O_CREAT | O_TMPFILE)) {                             \
    va_list list;                                                    \
    va_start(list, flags);                                           \
    mode = va_arg(list, mode_t);                                     \
    va_end(list);                                                    \
  }

int open(const char *path, int flags, ...) { MODE(flags) return open_any(AT_FDCWD, path, flags, mode); }
int open64(const char *path, int flags, ...) { MODE(flags) return open_any(AT_FDCWD, path, flags | O_LARGEFILE, mode); }
int openat(int at, const char *path, int flags, ...) { MODE(flags) return open_any(at, path, flags, mode); }
int openat64(int at, const char *path, int flags, ...) { MODE(flags) return open_any(at, path, flags | O_LARGEFILE, mode); }

int close(int fd) {
  if (is_tracked(fd)) tracked[fd] = 0;
  return REAL(close)(fd);
}

static ssize_t written(int fd, const void *bytes, ssize_t count, off_t at) {
  if (count > 0) append('W', fd, (uint64_t)at, bytes, (uint32_t)count);
  return count;
}

ssize_t pwrite(int fd, const void *bytes, size_t count, off_t at) {
  if (!is_tracked(fd)) return REAL(pwrite)(fd, bytes, count, at);
  pthread_mutex_lock(&mutex);
  ssize_t done = written(fd, bytes, REAL(pwrite)(fd, bytes, count, at), at);
  pthread_mutex_unlock(&mutex);
  return done;
}

ssize_t pwrite64(int fd, const void *bytes, size_t count, off64_t at) { return pwrite(fd, bytes, count, at); }

ssize_t write(int fd, const void *bytes, size_t count) {
  if (!is_tracked_file(fd)) return real_write(fd, bytes, count);
  pthread_mutex_lock(&mutex);
  ssize_t done = real_write(fd, bytes, count);
  if (done > 0) written(fd, bytes, done, lseek(fd, 0, SEEK_CUR) - done);
  pthread_mutex_unlock(&mutex);
  return done;
}

/* Written piece by piece, so that each piece is recorded. */
static ssize_t write_vector(int fd, const struct iovec *pieces, int count, off_t at) {
  ssize_t total = 0;
  for (int i = 0; i < count; i++) {
    ssize_t done = at < 0 ? write(fd, pieces[i].iov_base, pieces[i].iov_len)
                          : pwrite(fd, pieces[i].iov_base, pieces[i].iov_len, at + total);
    if (done < 0) return total > 0 ? total : -1;
    total += done;
    if ((size_t)done < pieces[i].iov_len) break;
  }
  return total;
}

ssize_t writev(int fd, const struct iovec *pieces, int count) {
  return is_tracked_file(fd) ? write_vector(fd, pieces, count, -1) : REAL(writev)(fd, pieces, count);
}
ssize_t pwritev(int fd, const struct iovec *pieces, int count, off_t at) {
  return is_tracked(fd) ? write_vector(fd, pieces, count, at) : REAL(pwritev)(fd, pieces, count, at);
}
ssize_t pwritev64(int fd, const struct iovec *pieces, int count, off64_t at) { return pwritev(fd, pieces, count, at); }

int ftruncate(int fd, off_t length) {
  pthread_mutex_lock(&mutex);
  int result = REAL(ftruncate)(fd, length);
  if (result == 0 && is_tracked(fd)) append('T', fd, (uint64_t)length, NULL, 0);
  pthread_mutex_unlock(&mutex);
  return result;
}
int ftruncate64(int fd, off64_t length) { return ftruncate(fd, length); }

static int synced(int fd) {
  if (drop_syncs) return 0;
  pthread_mutex_lock(&mutex);
  append('S', fd, 0, NULL, 0);
  pthread_mutex_unlock(&mutex);
  return 0;
}
int fsync(int fd) { return is_tracked(fd) ? synced(fd) : REAL(fsync)(fd); }
int fdatasync(int fd) { return is_tracked(fd) ? synced(fd) : REAL(fdatasync)(fd); }

static int renamed(int result, int from_at, const char *from, int to_at, const char *to) {
  char both[8192];
  char target[4096];
  if (result != 0 || !below(from_at, from, both) || !below(to_at, to, target)) return result;
  size_t length = strlen(both) + 1;
  strcpy(both + length, target);
  pthread_mutex_lock(&mutex);
  append('R', 0, 0, both, (uint32_t)(length + strlen(target)));
  pthread_mutex_unlock(&mutex);
  return result;
}
int rename(const char *from, const char *to) { return renamed(REAL(rename)(from, to), AT_FDCWD, from, AT_FDCWD, to); }
int renameat(int from_at, const char *from, int to_at, const char *to) {
  return renamed(REAL(renameat)(from_at, from, to_at, to), from_at, from, to_at, to);
}

static int unlinked(int result, int at, const char *path) {
  char full[4096];
  if (result != 0 || !below(at, path, full)) return result;
  pthread_mutex_lock(&mutex);
  append('U', 0, 0, full, strlen(full));
  pthread_mutex_unlock(&mutex);
  return result;
}
int unlink(const char *path) { return unlinked(REAL(unlink)(path), AT_FDCWD, path); }
int unlinkat(int at, const char *path, int flags) { return unlinked(REAL(unlinkat)(at, path, flags), at, path); }
