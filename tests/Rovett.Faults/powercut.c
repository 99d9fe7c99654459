/* Writes down what a process does to the files of one folder (POWERCUT_FOLDER), in order, into POWERCUT_RECORD:
 * writes, cuts, syncs, removals. From that record a test builds the disk as a power cut would leave it: only what was
 * synced is sure to be there. Loaded with LD_PRELOAD; one process, any number of threads. */
#include "layer.h"
#include <pthread.h>
#include <stdarg.h>
#include <stdint.h>

static pthread_mutex_t turn = PTHREAD_MUTEX_INITIALIZER;
static int record = -1;
static const char *folder;

__attribute__((constructor)) static void start(void) {
    find_real();
    folder = getenv("POWERCUT_FOLDER");
    const char *path = getenv("POWERCUT_RECORD");
    if (folder && path) record = open(path, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600);
}

/* The name inside the folder, or 0 when the file is elsewhere. */
static const char *inside(const char *path) {
    size_t n = strlen(folder);
    if (strcmp(path, folder) == 0) return "."; /* the folder itself: syncing it makes removals sure */
    if (strncmp(path, folder, n) != 0 || path[n] != '/') return 0;
    const char *name = path + n + 1;
    return strchr(name, '/') || strstr(name, "-shm") ? 0 : name;
}

static const char *name_of(int fd, char *room, size_t size) {
    char link[64];
    if (record < 0 || fd == record) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t n = readlink(link, room, size - 1);
    if (n <= 0) return 0;
    room[n] = 0;
    return inside(room);
}

/* One line of head, then the bytes. Written before the real call is answered and under one lock, so that the record's
 * order is the order of effects. */
static void note(char what, const char *name, int64_t at, const void *bytes, size_t n) {
    char head[512];
    int h = snprintf(head, sizeof head, "%c %s %lld %zu\n", what, name, (long long)at, n);
    real_write(record, head, h);
    for (size_t done = 0; done < n;) {
        ssize_t w = real_write(record, (const char *)bytes + done, n - done);
        if (w <= 0) abort();
        done += w;
    }
}

ssize_t pwrite64(int fd, const void *bytes, size_t n, off_t at) {
    char room[1024];
    const char *name = name_of(fd, room, sizeof room);
    if (!name) return real_pwrite(fd, bytes, n, at);
    pthread_mutex_lock(&turn);
    ssize_t w = real_pwrite(fd, bytes, n, at);
    if (w > 0) note('w', name, at, bytes, w);
    pthread_mutex_unlock(&turn);
    return w;
}
ssize_t pwrite(int fd, const void *bytes, size_t n, off_t at) { return pwrite64(fd, bytes, n, at); }

ssize_t write(int fd, const void *bytes, size_t n) {
    char room[1024];
    const char *name = name_of(fd, room, sizeof room);
    if (!name) return real_write(fd, bytes, n);
    pthread_mutex_lock(&turn);
    off_t at = lseek(fd, 0, SEEK_CUR);
    ssize_t w = real_write(fd, bytes, n);
    if (w > 0) note('w', name, at, bytes, w);
    pthread_mutex_unlock(&turn);
    return w;
}

static int synced(int fd, int (*real)(int)) {
    char room[1024];
    const char *name = name_of(fd, room, sizeof room);
    if (!name) return real(fd);
    /* What was written before the call began is what the sync promises. */
    pthread_mutex_lock(&turn);
    int r = real(fd);
    if (r == 0) note('s', name, 0, "", 0);
    pthread_mutex_unlock(&turn);
    return r;
}
int fsync(int fd) { return synced(fd, real_fsync); }
int fdatasync(int fd) { return synced(fd, real_fdatasync); }

int ftruncate64(int fd, off_t n) {
    char room[1024];
    const char *name = name_of(fd, room, sizeof room);
    if (!name) return real_ftruncate(fd, n);
    pthread_mutex_lock(&turn);
    int r = real_ftruncate(fd, n);
    if (r == 0) note('t', name, n, "", 0);
    pthread_mutex_unlock(&turn);
    return r;
}
int ftruncate(int fd, off_t n) { return ftruncate64(fd, n); }

int unlink(const char *path) {
    const char *name = record >= 0 ? inside(path) : 0;
    if (!name) return real_unlink(path);
    pthread_mutex_lock(&turn);
    int r = real_unlink(path);
    if (r == 0) note('u', name, 0, "", 0);
    pthread_mutex_unlock(&turn);
    return r;
}
