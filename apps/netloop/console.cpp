// SPDX-License-Identifier: Apache-2.0
#include "console.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <ctime>

namespace {

bool taken = false;
int failed = 0;  // errno of the first text that standard output did not take
std::atomic<bool> asked_to_end{false};

void put(std::FILE* to, const std::string& text, bool counts)
{
    errno = 0;
    if (std::fwrite(text.data(), 1, text.size(), to) != text.size() && counts && failed == 0) failed = errno != 0 ? errno : EIO;
}

// Milliseconds of a clock that only goes on; may be asked within a signal handler.
long now()
{
    timespec t{};
    ::clock_gettime(CLOCK_MONOTONIC, &t);
    return static_cast<long>(t.tv_sec) * 1000 + t.tv_nsec / 1000000;
}

// `timeout` and some shells send a signal twice at once, to the process and to its group: that is one wish.
void on_signal(int number)
{
    constexpr int kBySignal = 128;
    constexpr long kOneWish = 300;  // ms
    static std::atomic<long> first{0};
    if (!asked_to_end.exchange(true))
        first = now();
    else if (now() - first > kOneWish)
        ::_exit(kBySignal + number);
}

}  // namespace

void show_text(const std::string& text)
{
    if (taken)
        put(stderr, text, false);
    else
        put(stdout, text, true);
}

void show_json(const nlohmann::json& value)
{
    show_text(value.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n");
}

void tell_text(const std::string& text)
{
    put(stderr, text, false);
}

void tell_without_memory(const char* text)
{
    (void)!::write(STDERR_FILENO, text, std::strlen(text));
}

void output_is_taken()
{
    taken = true;
}

void prepare_console()
{
    for (int fd : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO})
        if (::fcntl(fd, F_GETFD) < 0 && errno == EBADF) {
            // standard output that is closed takes nothing, and says so
            int null = ::open(fd == STDOUT_FILENO ? "/dev/full" : "/dev/null", O_RDWR);
            if (null >= 0 && null != fd) ::dup2(null, fd), ::close(null);
        }
    std::signal(SIGXFSZ, SIG_IGN);
    std::signal(SIGINT, on_signal);
    std::signal(SIGTERM, on_signal);
}

const std::atomic<bool>& interrupted()
{
    return asked_to_end;
}

bool finish_console()
{
    errno = 0;
    if (std::fflush(stdout) != 0 && failed == 0) failed = errno;
    std::fflush(stderr);
    if (failed == 0) return true;
    tell("error: standard output cannot be written: {}\n", std::strerror(failed));
    return false;
}
