/* Loaded before the C library: writes down, in order, whatever a process does to the files below POWER_FOLDER, into POWER_LOG.
 *
 * A line of the log: what was done, the inode, an offset or a flag, the path and a length, then so many bytes and a line's end.
 * One thing is done and written down at a time, so the order is the true one. */

#define _GNU_SOURCE
#include <fcntl.h>
#include <limits.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

static pthread_mutex_t one = PTHREAD_MUTEX_INITIALIZER;
static const char *folder;
static int records = -1;

__attribute__((constructor)) static void begin(void) {
    folder = getenv("POWER_FOLDER");
    const char *path = getenv("POWER_LOG");
    if (folder && path) records = syscall(SYS_openat, AT_FDCWD, path, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600);
}

static int ours(const char *path) {
    return records >= 0 && !strncmp(path, folder, strlen(folder));
}

/* The path that a file was opened by, if it is one of ours. */
static int path_of(int fd, char *path) {
    char link[64];
    if (records < 0 || fd == records) return 0;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(link, path, PATH_MAX);
    if (length < 0) return 0;
    path[length] = 0;
    return ours(path);
}

static void put(char what, unsigned long inode, long at, const char *path, const void *data, size_t length) {
    char head[PATH_MAX + 100];
    int size = snprintf(head, sizeof head, "%c %lu %ld %zu %zu\n%s", what, inode, at, strlen(path), length, path);
    struct iovec parts[3] = {{head, size}, {(void *)data, length}, {"\n", 1}};
    syscall(SYS_writev, records, parts, 3);
}

static unsigned long inode_of(int fd) {
    struct stat found;
    return fstat(fd, &found) ? 0 : found.st_ino;
}

static int opened(const char *path, int flags, mode_t mode, int at) {
    char full[PATH_MAX];
    if (path[0] != '/' && at == AT_FDCWD && getcwd(full, sizeof full - 1 - strlen(path))) strcat(strcat(full, "/"), path);
    else snprintf(full, sizeof full, "%s", path);
    if (!ours(full) || !(flags & (O_CREAT | O_TRUNC))) return syscall(SYS_openat, at, path, flags, mode);
    pthread_mutex_lock(&one);
    int there = !access(full, F_OK);
    int fd = syscall(SYS_openat, at, path, flags, mode);
    if (fd >= 0 && !there) put('C', inode_of(fd), 0, full, "", 0);
    else if (fd >= 0 && flags & O_TRUNC) put('T', inode_of(fd), 0, full, "", 0);
    pthread_mutex_unlock(&one);
    return fd;
}

#define MODE mode_t mode = 0; if (flags & O_CREAT) { va_list more; va_start(more, flags); mode = va_arg(more, mode_t); va_end(more); }
int open(const char *path, int flags, ...) { MODE return opened(path, flags, mode, AT_FDCWD); }
int open64(const char *path, int flags, ...) { MODE return opened(path, flags, mode, AT_FDCWD); }
int openat(int at, const char *path, int flags, ...) { MODE return opened(path, flags, mode, at); }
int openat64(int at, const char *path, int flags, ...) { MODE return opened(path, flags, mode, at); }

static ssize_t written(int fd, const void *data, size_t length, off_t at, int placed) {
    char path[PATH_MAX];
    if (!path_of(fd, path))
        return placed ? syscall(SYS_pwrite64, fd, data, length, at) : syscall(SYS_write, fd, data, length);
    pthread_mutex_lock(&one);
    if (!placed) {
        struct stat found;
        at = fcntl(fd, F_GETFL) & O_APPEND && !fstat(fd, &found) ? found.st_size : lseek(fd, 0, SEEK_CUR);
    }
    ssize_t done = placed ? syscall(SYS_pwrite64, fd, data, length, at) : syscall(SYS_write, fd, data, length);
    if (done > 0) put('W', inode_of(fd), at, path, data, done);
    pthread_mutex_unlock(&one);
    return done;
}

ssize_t write(int fd, const void *data, size_t length) { return written(fd, data, length, 0, 0); }
ssize_t pwrite(int fd, const void *data, size_t length, off_t at) { return written(fd, data, length, at, 1); }
ssize_t pwrite64(int fd, const void *data, size_t length, off64_t at) { return written(fd, data, length, at, 1); }

static int cut(int fd, off_t length) {
    char path[PATH_MAX];
    if (!path_of(fd, path)) return syscall(SYS_ftruncate, fd, length);
    pthread_mutex_lock(&one);
    int done = syscall(SYS_ftruncate, fd, length);
    if (!done) put('T', inode_of(fd), length, path, "", 0);
    pthread_mutex_unlock(&one);
    return done;
}

int ftruncate(int fd, off_t length) { return cut(fd, length); }
int ftruncate64(int fd, off64_t length) { return cut(fd, length); }

static int synced(int fd, long call) {
    char path[PATH_MAX];
    if (!path_of(fd, path)) return syscall(call, fd);
    pthread_mutex_lock(&one);
    int done = syscall(call, fd);
    if (!done) put('S', inode_of(fd), 0, path, "", 0);
    pthread_mutex_unlock(&one);
    return done;
}

int fsync(int fd) { return synced(fd, SYS_fsync); }
int fdatasync(int fd) { return synced(fd, SYS_fdatasync); }

int unlink(const char *path) {
    if (!ours(path)) return syscall(SYS_unlink, path);
    pthread_mutex_lock(&one);
    int done = syscall(SYS_unlink, path);
    if (!done) put('U', 0, 0, path, "", 0);
    pthread_mutex_unlock(&one);
    return done;
}

int rename(const char *from, const char *to) {
    if (!ours(from)) return syscall(SYS_rename, from, to);
    pthread_mutex_lock(&one);
    int done = syscall(SYS_rename, from, to);
    if (!done) put('R', 0, 0, from, to, strlen(to));
    pthread_mutex_unlock(&one);
    return done;
}
