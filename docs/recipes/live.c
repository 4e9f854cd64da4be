/*
 * Keeps a correct live copy of a query in C with libcurl, through broken connections and restarts of the store.
 *
 *   cc -O2 -o live live.c -lcurl -lpthread
 *   UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=... ./live 'balloons?limit=none'
 *
 * The copy is one JSON text in a fixed buffer, and a patch splices it. So the program needs no JSON library, and its
 * memory is known when it is compiled. It prints the copy, the documents by id, after each event. Each line of its
 * standard input, such as {"id":"c-1","writes":[{"merge":"balloons/bl-17","data":{"altitude":420}}]}, is sent as a
 * commit; the store applies a commit with the same id once, so it is sent until there is an answer.
 */
#include <curl/curl.h>
#include <pthread.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* The largest copy, the largest event, and the longest path of a patch, in bytes. Fit them to your board. */
enum { COPY_BYTES = 1 << 20, LINE_BYTES = 1 << 20, PATH_BYTES = 4096 };

/* A comment comes every 15 s; where nothing comes for longer, the connection is dead. */
enum { SILENCE_SECONDS = 40, RETRY_SECONDS = 1 };

static char copy[COPY_BYTES] = "{}";
static char line[LINE_BYTES], data[LINE_BYTES], name[64], event_id[256], resume[256];
static size_t line_length;
static bool refused;

static void die(const char *why) {
  fprintf(stderr, "%s\n", why);
  exit(2);
}

/* ---- JSON text ---- */

/* The end of the value that begins here. */
static char *skip(char *at) {
  if (*at == '"') {
    while (*++at != '"')
      if (*at == '\\') at++;
    return at + 1;
  }
  if (*at != '{' && *at != '[') return at + strcspn(at, ",]}");
  for (int depth = 0;; at++) {
    if (*at == '"') at = skip(at) - 1;
    else if (*at == '{' || *at == '[') depth++;
    else if ((*at == '}' || *at == ']') && --depth == 0) return at + 1;
  }
}

static size_t put_utf8(char *to, unsigned code) {
  if (code < 0x80) return to[0] = (char)code, 1;
  if (code < 0x800) return to[0] = (char)(0xC0 | code >> 6), to[1] = (char)(0x80 | (code & 63)), 2;
  if (code < 0x10000) {
    to[0] = (char)(0xE0 | code >> 12), to[1] = (char)(0x80 | (code >> 6 & 63)), to[2] = (char)(0x80 | (code & 63));
    return 3;
  }
  to[0] = (char)(0xF0 | code >> 18), to[1] = (char)(0x80 | (code >> 12 & 63));
  to[2] = (char)(0x80 | (code >> 6 & 63)), to[3] = (char)(0x80 | (code & 63));
  return 4;
}

static unsigned hex(const char *at) {
  char digits[5] = {at[0], at[1], at[2], at[3], 0};
  return (unsigned)strtoul(digits, NULL, 16);
}

/* Decodes a JSON string into a buffer of PATH_BYTES; returns its length. A longer one is cut: it equals nothing. */
static size_t decode(const char *at, char *to) {
  static const char from[] = "\"\\/bfnrt", meant[] = "\"\\/\b\f\n\r\t";
  size_t length = 0;
  for (at++; *at != '"' && length + 5 < PATH_BYTES; at++) {
    if (*at != '\\') {
      to[length++] = *at;
    } else if (*++at == 'u') {
      unsigned code = hex(at + 1);
      at += 4;
      if (code >= 0xD800 && code < 0xDC00) {
        code = 0x10000 + ((code - 0xD800) << 10) + (hex(at + 3) - 0xDC00);
        at += 6;
      }
      length += put_utf8(to + length, code);
    } else {
      to[length++] = meant[strchr(from, *at) - from];
    }
  }
  return length;
}

/* A member of an object, or an item of an array. `begin` is where its name begins, if it has one. */
struct part {
  char *begin, *value, *end;
};

/* Goes to the next part of the container; false behind the last one. Start with part.end at the container's bracket. */
static bool next(char *container, struct part *part) {
  char *at = part->end + 1;
  if (*part->end == '}' || *part->end == ']' || *at == '}' || *at == ']') return false;
  part->begin = part->value = at;
  if (*container == '{') part->value = skip(at) + 1;
  part->end = skip(part->value);
  return true;
}

/* Finds a member by its name, or an item by its index. */
static bool find(char *container, const char *token, size_t length, struct part *part) {
  static char key[PATH_BYTES];
  long index = *container == '[' ? strtol(token, NULL, 10) : 0;
  part->end = container;
  while (next(container, part)) {
    if (*container == '[' ? index-- == 0 : decode(part->begin, key) == length && memcmp(key, token, length) == 0)
      return true;
  }
  return false;
}

/* The value of a member of an object; NULL if there is none. */
static char *member(char *object, const char *wanted) {
  struct part part;
  return find(object, wanted, strlen(wanted), &part) ? part.value : NULL;
}

/* ---- the patch applier: JSON Patch (RFC 6902) of add, remove and replace ---- */

/* Replaces a part of the copy. */
static void splice(char *at, size_t removed, const char *text, size_t length) {
  size_t rest = strlen(at + removed) + 1;
  if ((size_t)(at - copy) + length + rest > COPY_BYTES) die("The copy is larger than COPY_BYTES.");
  memmove(at + length, at + removed, rest);
  memcpy(at, text, length);
}

/* Writes a member name and a colon as JSON text. */
static size_t write_name(char *to, const char *token, size_t length) {
  size_t written = 0;
  to[written++] = '"';
  for (size_t n = 0; n < length; n++) {
    unsigned char c = (unsigned char)token[n];
    if (c == '"' || c == '\\') to[written++] = '\\';
    if (c < 0x20) written += (size_t)sprintf(to + written, "\\u%04x", c);
    else to[written++] = (char)c;
  }
  to[written++] = '"';
  to[written++] = ':';
  return written;
}

/* Adds a value: before an item of an array, or as the last part of a container. */
static void insert(char *container, struct part *before, const char *key, size_t key_length, char *value) {
  static char text[LINE_BYTES + 6 * PATH_BYTES];
  bool empty = container[1] == '}' || container[1] == ']';
  size_t length = 0;
  if (!before && !empty) text[length++] = ',';
  if (key) length += write_name(text + length, key, key_length);
  size_t value_length = (size_t)(skip(value) - value);
  memcpy(text + length, value, value_length);
  length += value_length;
  if (before) text[length++] = ',';
  splice(before ? before->begin : skip(container) - 1, 0, text, length);
}

static void apply(char *op, char *path, char *value) {
  static char pointer[PATH_BYTES];
  size_t length = decode(path, pointer), at = 0;
  if (length + 5 >= PATH_BYTES) die("A path is longer than PATH_BYTES.");
  pointer[length] = '\0';
  char *container = copy;
  struct part part;
  for (;;) {
    /* The next token, with ~1 and ~0 decoded in place (RFC 6901, section 4). */
    char *token = pointer + ++at;
    size_t token_length = 0;
    for (; at < length && pointer[at] != '/'; at++) {
      char c = pointer[at];
      if (c == '~') c = pointer[++at] == '1' ? '/' : '~';
      token[token_length++] = c;
    }
    bool last = at >= length;
    bool array = *container == '[';
    bool there = !(array && token_length == 1 && *token == '-') && find(container, token, token_length, &part);
    if (!last) {
      if (!there) die("A patch does not fit the copy.");
      container = part.value;
    } else if (op[1] == 'a' && (array || !there)) {
      insert(container, array && there ? &part : NULL, array ? NULL : token, token_length, value);
      return;
    } else if (!there) {
      die("A patch does not fit the copy.");
    } else if (op[3] == 'm') { /* remove, with one comma */
      char *begin = part.begin, *end = part.end;
      if (*end == ',') end++;
      else if (begin[-1] == ',') begin--;
      splice(begin, (size_t)(end - begin), "", 0);
      return;
    } else { /* replace, or add of a member that exists */
      splice(part.value, (size_t)(part.end - part.value), value, (size_t)(skip(value) - value));
      return;
    }
  }
}

/* ---- the watch ---- */

/* Makes the copy of a list of documents. */
static void take_all(char *documents) {
  strcpy(copy, "{}");
  struct part part = {.end = documents};
  while (next(documents, &part)) {
    static char id[PATH_BYTES];
    size_t length = decode(member(part.value, "id"), id);
    insert(copy, NULL, id, length, part.value);
  }
}

static void take_event(void) {
  if (strcmp(name, "result") == 0 || strcmp(name, "reset") == 0) {
    take_all(member(data, "documents"));
  } else if (strcmp(name, "change") == 0) {
    char *patch = member(data, "patch");
    struct part part = {.end = patch};
    while (next(patch, &part)) apply(member(part.value, "op"), member(part.value, "path"), member(part.value, "value"));
  } else {
    /* The end: two problems pass, 503 (the store stops) and 401 (the token has expired). All others are final. */
    char *status = member(data, "status");
    if (status && strncmp(status, "503", 3) != 0 && strncmp(status, "401", 3) != 0) {
      fprintf(stderr, "%s\n", data);
      refused = true;
    }
    return;
  }
  puts(copy);
  fflush(stdout);
}

static void take_line(void) {
  if (strncmp(line, "event: ", 7) == 0) snprintf(name, sizeof name, "%.63s", line + 7);
  else if (strncmp(line, "id: ", 4) == 0) snprintf(event_id, sizeof event_id, "%.255s", line + 4);
  else if (strncmp(line, "data: ", 6) == 0) strcpy(data, line + 6);
  else if (line[0] == '{') fprintf(stderr, "%s\n", line); /* a problem in place of the stream */
  else if (line[0] == '\0') {
    if (data[0]) take_event();
    /* The resume point moves on only together with the copy. */
    if (event_id[0]) strcpy(resume, event_id);
    name[0] = event_id[0] = data[0] = '\0';
  }
}

static size_t take_bytes(char *bytes, size_t size, size_t count, void *unused) {
  (void)unused;
  for (size_t n = 0; n < size * count; n++) {
    if (bytes[n] != '\n') {
      if (line_length + 1 >= LINE_BYTES) die("An event is larger than LINE_BYTES.");
      line[line_length++] = bytes[n];
      continue;
    }
    line[line_length] = '\0';
    line_length = 0;
    take_line();
  }
  return size * count;
}

/* Whether the same request can succeed later. */
static bool passes(long status) {
  return status == 0 || status == 408 || status == 429 || status >= 500;
}

static CURL *open_request(const char *path, struct curl_slist **headers) {
  char address[8192], key[8192];
  snprintf(address, sizeof address, "%s/v1/%s", getenv("UPROAR_URL"), path);
  snprintf(key, sizeof key, "Authorization: Bearer %s", getenv("UPROAR_KEY"));
  *headers = curl_slist_append(*headers, key);
  CURL *request = curl_easy_init();
  curl_easy_setopt(request, CURLOPT_URL, address);
  curl_easy_setopt(request, CURLOPT_HTTPHEADER, *headers);
  curl_easy_setopt(request, CURLOPT_NOSIGNAL, 1L);
  return request;
}

static long run(CURL *request, struct curl_slist *headers) {
  long status = 0;
  if (curl_easy_perform(request) == CURLE_OK) curl_easy_getinfo(request, CURLINFO_RESPONSE_CODE, &status);
  curl_slist_free_all(headers);
  curl_easy_cleanup(request);
  return status;
}

static size_t take_answer(char *bytes, size_t size, size_t count, void *request) {
  long status = 0;
  curl_easy_getinfo((CURL *)request, CURLINFO_RESPONSE_CODE, &status);
  if (status >= 400) fwrite(bytes, size, count, stderr);
  return size * count;
}

static void *send_commits(void *unused) {
  char *commit = NULL;
  size_t size = 0;
  while (getline(&commit, &size, stdin) > 0) {
    long status;
    do {
      struct curl_slist *headers = curl_slist_append(NULL, "Content-Type: application/json");
      CURL *request = open_request("commits", &headers);
      curl_easy_setopt(request, CURLOPT_POSTFIELDS, commit);
      curl_easy_setopt(request, CURLOPT_TIMEOUT, 20L);
      curl_easy_setopt(request, CURLOPT_WRITEFUNCTION, take_answer);
      curl_easy_setopt(request, CURLOPT_WRITEDATA, request);
      status = run(request, headers);
      if (passes(status)) sleep(RETRY_SECONDS);
    } while (passes(status));
  }
  return unused;
}

int main(int count, char **arguments) {
  if (count != 2 || !getenv("UPROAR_URL") || !getenv("UPROAR_KEY")) die("usage: UPROAR_URL=… UPROAR_KEY=… live QUERY");
  curl_global_init(CURL_GLOBAL_DEFAULT);
  pthread_t sender;
  pthread_create(&sender, NULL, send_commits, NULL);
  char path[4096];
  snprintf(path, sizeof path, "data/%s", arguments[1]);
  while (!refused) {
    struct curl_slist *headers = curl_slist_append(NULL, "Accept: text/event-stream");
    char header[300];
    snprintf(header, sizeof header, "Last-Event-ID: %s", resume);
    if (resume[0]) headers = curl_slist_append(headers, header);
    CURL *request = open_request(path, &headers);
    curl_easy_setopt(request, CURLOPT_WRITEFUNCTION, take_bytes);
    curl_easy_setopt(request, CURLOPT_LOW_SPEED_LIMIT, 1L);
    curl_easy_setopt(request, CURLOPT_LOW_SPEED_TIME, (long)SILENCE_SECONDS);
    line_length = 0;
    name[0] = event_id[0] = data[0] = '\0';
    long status = run(request, headers);
    if (status >= 400 && !passes(status)) {
      fprintf(stderr, "%.*s\nstatus %ld\n", (int)line_length, line, status);
      refused = true;
    }
    if (!refused) sleep(RETRY_SECONDS);
  }
  return 1;
}
