// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cmath>
#include <csignal>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "commands.hpp"

std::vector<std::pair<std::string, std::string>> split_settings(const std::vector<std::string>& settings)
{
    std::vector<std::pair<std::string, std::string>> list;
    for (const std::string& s : settings) {
        std::size_t equals = s.find('=');
        if (equals == std::string::npos || equals == 0 || equals + 1 == s.size())
            throw netloop::UsageError(fmt::format("--set {}: write path=value, for example --set relief.cracking=\"160 bar\"", s));
        list.emplace_back(s.substr(0, equals), s.substr(equals + 1));
    }
    return list;
}

netloop::Quantity quantity_from(const std::string& text, const std::string& otherwise, const std::string& option, const std::string& what,
                                const std::string& example)
{
    char* end = nullptr;
    double value = std::strtod(text.c_str(), &end);
    std::string unit = end;
    while (!unit.empty() && unit.front() == ' ') unit.erase(0, 1);
    if (end == text.c_str() || !std::isfinite(value))
        throw netloop::UsageError(fmt::format("{} {}: {} is expected, for example {} {}", option, text, what, option, example));
    if (unit.empty()) return {value, otherwise};
    netloop::Quantity quantity{value, unit};
    if (unit == otherwise) return quantity;
    try {
        (void)quantity.si();
    } catch (const netloop::UsageError& error) {
        throw netloop::UsageError(fmt::format("{} {}: {}", option, text, error.what()));
    }
    return quantity;
}

double seconds_from(const std::string& text, const std::string& option)
{
    netloop::Quantity time = quantity_from(text, "s", option, "a time", "60s");
    netloop::Column helper;
    helper.unit = time.unit;
    helper.values = {time.si()};
    try {
        return helper.in("s").values[0];
    } catch (const netloop::RecordingError&) {
        throw netloop::UsageError(fmt::format("{} {}: a time is expected, not a quantity in [{}]", option, text, time.unit));
    }
}

namespace {

// Reads all of a recording but its numbers in a process of its own. Whether that lived.
bool survives_reading(const std::string& path)
{
    constexpr rlim_t kMostSeconds = 10;    // of computing: the library can go round in circles
    constexpr unsigned kMostWaiting = 60;  // it can also wait for what never comes
    pid_t child = ::fork();
    if (child < 0) return true;  // no process to be had: then without
    if (child == 0) {
        std::signal(SIGSEGV, SIG_DFL);
        struct rlimit none {};
        ::setrlimit(RLIMIT_CORE, &none);
        struct rlimit most {
            kMostSeconds, kMostSeconds
        };
        ::setrlimit(RLIMIT_CPU, &most);
        ::alarm(kMostWaiting);
        try {
            (void)netloop::Recording::open(path);
        } catch (...) {  // told by the process that asks
        }
        ::_exit(0);
    }
    int status = 0;
    while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    return WIFEXITED(status);
}

}  // namespace

netloop::Recording open_recording(const std::string& path)
{
    struct stat about {};
    // what can be read once only is not read twice
    if (::stat(path.c_str(), &about) == 0 && S_ISREG(about.st_mode) && !survives_reading(path))
        throw netloop::RecordingError(fmt::format("'{}' is no recording: it is damaged", path));
    netloop::Recording recording = netloop::Recording::open(path);
    if (!recording.complete) tell("note: '{}' is incomplete: {}\n", path, recording.reason);
    return recording;
}

void print_diagnostics(const std::vector<netloop::Diagnostic>& diagnostics, bool notes)
{
    std::size_t errors = 0;
    for (const netloop::Diagnostic& d : diagnostics) {
        if (d.severity == netloop::Diagnostic::Severity::note && !notes) continue;
        errors += d.severity == netloop::Diagnostic::Severity::error ? 1 : 0;
        tell("{}", d.rendered);
    }
    if (errors > 1) tell("{} errors\n", errors);
}

nlohmann::json json_of(const std::vector<netloop::Diagnostic>& diagnostics)
{
    nlohmann::json list = nlohmann::json::array();
    for (const netloop::Diagnostic& d : diagnostics) {
        const char* severity = d.severity == netloop::Diagnostic::Severity::error     ? "error"
                               : d.severity == netloop::Diagnostic::Severity::warning ? "warning"
                                                                                      : "note";
        list.push_back({{"id", d.id}, {"severity", severity}, {"file", d.file}, {"line", d.line}, {"column", d.column}, {"text", d.text}, {"hint", d.hint}});
    }
    return list;
}
