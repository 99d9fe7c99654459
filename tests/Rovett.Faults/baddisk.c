/* Makes the files of one folder (BADDISK_FOLDER) fail as a word in the file BADDISK_FAULT says, as long as that is there:
 *   full      nothing grows any more, and of what would only a part is written
 *   readonly  nothing is written, cut or removed
 *   io        writes and syncs fail
 *   sync      writes are taken, syncs fail
 * and sets the clock by the seconds in BADDISK_CLOCK. Loaded with LD_PRELOAD. */
#include "layer.h"
#include <errno.h>
#include <time.h>

static const char *folder, *fault_file, *clock_file;
static int (*real_clock)(clockid_t, struct timespec *);

__attribute__((constructor)) static void start(void) {
    find_real();
    real_clock = dlsym(RTLD_NEXT, "clock_gettime");
    folder = getenv("BADDISK_FOLDER");
    fault_file = getenv("BADDISK_FAULT");
    clock_file = getenv("BADDISK_CLOCK");
}

/* The first bytes of a small file; 0 when it is not there. */
static int word(const char *path, char *room, size_t size) {
    int fd = path ? open(path, O_RDONLY | O_CLOEXEC) : -1;
    if (fd < 0) return 0;
    ssize_t n = read(fd, room, size - 1);
    close(fd);
    if (n <= 0) return 0;
    room[n] = 0;
    return 1;
}

static int inside(const char *path) {
    size_t n = folder ? strlen(folder) : 0;
    return n && strncmp(path, folder, n) == 0 && path[n] == '/';
}

/* The fault that holds for a file now: its first letter, or 0. */
static char fault_at(int fd) {
    char room[1024], link[64], what[32];
    if (!folder) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t n = readlink(link, room, sizeof room - 1);
    if (n <= 0) return 0;
    room[n] = 0;
    return inside(room) && word(fault_file, what, sizeof what) ? what[0] : 0;
}

static int fail(int error) {
    errno = error;
    return -1;
}

/* How much of a write is taken; -1 with errno when nothing is. */
static ssize_t taken(char fault, int fd, size_t n, off_t at) {
    struct stat now;
    switch (fault) {
    case 'f':
        if (fstat(fd, &now) != 0 || at + (off_t)n <= now.st_size) return n;
        return at < now.st_size ? now.st_size - at : fail(ENOSPC);
    case 'r': return fail(EROFS);
    case 'i': return fail(EIO);
    default: return n;
    }
}

ssize_t pwrite64(int fd, const void *bytes, size_t n, off_t at) {
    ssize_t some = taken(fault_at(fd), fd, n, at);
    return some < 0 ? some : real_pwrite(fd, bytes, some, at);
}
ssize_t pwrite(int fd, const void *bytes, size_t n, off_t at) { return pwrite64(fd, bytes, n, at); }

ssize_t write(int fd, const void *bytes, size_t n) {
    char fault = fault_at(fd);
    if (!fault) return real_write(fd, bytes, n);
    ssize_t some = taken(fault, fd, n, lseek(fd, 0, SEEK_CUR));
    return some < 0 ? some : real_write(fd, bytes, some);
}

static int synced(int fd, int (*real)(int)) {
    char fault = fault_at(fd);
    return fault == 'i' || fault == 's' ? fail(EIO) : fault == 'r' ? fail(EROFS) : real(fd);
}
int fsync(int fd) { return synced(fd, real_fsync); }
int fdatasync(int fd) { return synced(fd, real_fdatasync); }

int ftruncate64(int fd, off_t n) {
    char fault = fault_at(fd);
    return fault == 'r' ? fail(EROFS) : fault == 'i' ? fail(EIO) : real_ftruncate(fd, n);
}
int ftruncate(int fd, off_t n) { return ftruncate64(fd, n); }

int unlink(const char *path) {
    char what[32];
    if (inside(path) && word(fault_file, what, sizeof what) && what[0] == 'r') return fail(EROFS);
    return real_unlink(path);
}

int clock_gettime(clockid_t id, struct timespec *time) {
    char seconds[32];
    int r = real_clock(id, time);
    if (r == 0 && id == CLOCK_REALTIME && word(clock_file, seconds, sizeof seconds)) time->tv_sec += atol(seconds);
    return r;
}
