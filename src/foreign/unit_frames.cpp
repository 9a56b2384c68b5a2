// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_frames.hpp"

#include <poll.h>
#include <sys/socket.h>

#include <cerrno>
#include <chrono>
#include <cstring>

namespace netloop {
namespace {

constexpr std::uint32_t kMostBytes = 1u << 30;

template <typename T>
void put(std::string& to, T v)
{
    to.append(reinterpret_cast<const char*>(&v), sizeof v);
}

template <typename T>
bool get(const std::string& from, std::size_t& at, T& v)
{
    if (from.size() - at < sizeof v) return false;
    std::memcpy(&v, from.data() + at, sizeof v);
    at += sizeof v;
    return true;
}

bool send_all(int socket, const char* bytes, std::size_t n)
{
    while (n > 0) {
        ssize_t sent = ::send(socket, bytes, n, MSG_NOSIGNAL);
        if (sent < 0 && errno == EINTR) continue;
        if (sent <= 0) return false;
        bytes += sent;
        n -= static_cast<std::size_t>(sent);
    }
    return true;
}

Received receive_all(int socket, char* bytes, std::size_t n, double seconds)
{
    using Clock = std::chrono::steady_clock;
    auto end = Clock::now() + std::chrono::duration<double>(seconds);
    while (n > 0) {
        int wait = -1;
        if (seconds >= 0) {
            auto left = std::chrono::duration_cast<std::chrono::milliseconds>(end - Clock::now()).count();
            if (left <= 0) return Received::late;
            wait = static_cast<int>(left);
        }
        pollfd p{socket, POLLIN, 0};
        int ready = ::poll(&p, 1, wait);
        if (ready < 0 && errno == EINTR) continue;
        if (ready == 0) return Received::late;
        ssize_t got = ::recv(socket, bytes, n, 0);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) return Received::gone;
        bytes += got;
        n -= static_cast<std::size_t>(got);
    }
    return Received::frame;
}

}  // namespace

std::string UnitFrame::bytes() const
{
    std::string to;
    put(to, head);
    put(to, static_cast<std::uint32_t>(lists.size()));
    for (const auto& list : lists) {
        put(to, static_cast<std::uint32_t>(list.size()));
        to.append(reinterpret_cast<const char*>(list.data()), list.size() * sizeof(double));
    }
    put(to, static_cast<std::uint32_t>(text.size()));
    return to + text;
}

bool UnitFrame::read(const std::string& from)
{
    std::size_t at = 0;
    std::uint32_t n = 0, size = 0;
    if (!get(from, at, head) || !get(from, at, n) || n > from.size()) return false;
    lists.assign(n, {});
    for (auto& list : lists) {
        if (!get(from, at, size) || (from.size() - at) / sizeof(double) < size) return false;
        list.resize(size);
        if (size > 0) std::memcpy(list.data(), from.data() + at, size * sizeof(double));
        at += size * sizeof(double);
    }
    if (!get(from, at, size) || from.size() - at != size) return false;
    text = from.substr(at);
    return true;
}

bool send_frame(int socket, const UnitFrame& frame)
{
    std::string bytes = frame.bytes(), all;
    put(all, static_cast<std::uint32_t>(bytes.size()));
    all += bytes;
    return send_all(socket, all.data(), all.size());
}

Received receive_frame(int socket, UnitFrame& frame, double seconds)
{
    std::uint32_t size = 0;
    Received got = receive_all(socket, reinterpret_cast<char*>(&size), sizeof size, seconds);
    if (got != Received::frame) return got;
    if (size > kMostBytes) return Received::gone;
    std::string bytes(size, '\0');
    got = receive_all(socket, bytes.data(), size, seconds);
    if (got != Received::frame) return got;
    return frame.read(bytes) ? Received::frame : Received::gone;
}

}  // namespace netloop
