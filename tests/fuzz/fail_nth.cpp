// SPDX-License-Identifier: Apache-2.0
// Preloaded by tests: the n-th call of one kind fails. FAIL_CALL=write|open|rename|fsync|alloc, FAIL_AT=n (from 1), FAIL_FOR (how many; default: all from then
// on). Calls are counted from the moment at which a file whose name holds FAIL_AFTER is opened (empty: from the beginning), so that what is tried is our
// output.
#include <dlfcn.h>
#include <fcntl.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>

namespace {

std::atomic<long> calls{0};
std::atomic<bool> armed{false};

const char* set(const char* name)
{
    const char* value = std::getenv(name);
    return value != nullptr ? value : "";
}

// No allocation in here: it may be asked from malloc.
bool fails(const char* kind)
{
    if (!armed.load(std::memory_order_relaxed) || std::strcmp(set("FAIL_CALL"), kind) != 0) return false;
    long n = ++calls, at = std::atol(set("FAIL_AT")), how_many = *set("FAIL_FOR") != 0 ? std::atol(set("FAIL_FOR")) : 1000000000;
    return n >= at && n < at + how_many;
}

void opened(const char* path)
{
    const char* after = set("FAIL_AFTER");
    if (*after == 0 || std::strstr(path, after) != nullptr) armed = true;
}

template <typename Function>
Function real(const char* name)
{
    return reinterpret_cast<Function>(dlsym(RTLD_NEXT, name));
}

int open_as(const char* name, const char* path, int flags, mode_t mode)
{
    static auto next = real<int (*)(const char*, int, ...)>(name);
    bool fail = (flags & O_CREAT) != 0 && fails("open");
    opened(path);
    if (fail) {
        errno = ENOSPC;
        return -1;
    }
    return next(path, flags, mode);
}

}  // namespace

extern "C" {

ssize_t write(int fd, const void* data, size_t size)
{
    static auto next = real<ssize_t (*)(int, const void*, size_t)>("write");
    if (fd > 2 && fails("write")) {
        errno = ENOSPC;
        return -1;
    }
    return next(fd, data, size);
}
ssize_t pwrite(int fd, const void* data, size_t size, off_t at)
{
    static auto next = real<ssize_t (*)(int, const void*, size_t, off_t)>("pwrite");
    if (fails("write")) {
        errno = ENOSPC;
        return -1;
    }
    return next(fd, data, size, at);
}
ssize_t pwrite64(int fd, const void* data, size_t size, off64_t at)
{
    static auto next = real<ssize_t (*)(int, const void*, size_t, off64_t)>("pwrite64");
    if (fails("write")) {
        errno = ENOSPC;
        return -1;
    }
    return next(fd, data, size, at);
}
int open(const char* path, int flags, ...)
{
    va_list list;
    va_start(list, flags);
    mode_t mode = va_arg(list, mode_t);
    va_end(list);
    return open_as("open", path, flags, mode);
}
int open64(const char* path, int flags, ...)
{
    va_list list;
    va_start(list, flags);
    mode_t mode = va_arg(list, mode_t);
    va_end(list);
    return open_as("open64", path, flags, mode);
}
int rename(const char* from, const char* to)
{
    static auto next = real<int (*)(const char*, const char*)>("rename");
    if (fails("rename")) {
        errno = EIO;
        return -1;
    }
    return next(from, to);
}
int fsync(int fd)
{
    static auto next = real<int (*)(int)>("fsync");
    if (fails("fsync")) {
        errno = EIO;
        return -1;
    }
    return next(fd);
}
int ftruncate64(int fd, off64_t size)
{
    static auto next = real<int (*)(int, off64_t)>("ftruncate64");
    if (fails("write")) {
        errno = ENOSPC;
        return -1;
    }
    return next(fd, size);
}
void* malloc(size_t size)
{
    static auto next = real<void* (*)(size_t)>("malloc");
    if (fails("alloc")) return nullptr;
    return next(size);
}

}  // extern "C"
