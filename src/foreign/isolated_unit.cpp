// SPDX-License-Identifier: Apache-2.0
// An instance of a unit in a process of its own.
#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include "foreign/unit_frames.hpp"
#include "foreign/unit_instance.hpp"

namespace fs = std::filesystem;
extern char** environ;

namespace netloop {
namespace {

using Values = std::vector<double>;

// Beside the program that runs, or where it was installed.
std::string host_program()
{
    std::error_code error;
    if (const char* said = std::getenv("NETLOOP_UNIT_HOST"); said != nullptr && *said != 0) return said;
    fs::path here = fs::read_symlink("/proc/self/exe", error).parent_path();
    for (const fs::path& folder : {here, here / "..", here / "../libexec/netloop", fs::path(NETLOOP_LIBEXEC)})
        if (fs::path file = folder / "netloop_unit_host"; fs::is_regular_file(file, error)) return file.string();
    throw UnitProblemFound("the program netloop_unit_host, in whose process it would run, is not beside this one (NETLOOP_UNIT_HOST may name it)");
}

class IsolatedUnit : public UnitInstance {
public:
    IsolatedUnit(UnitKind kind, const std::string& folder, const std::string& name, double patience) : patience_(patience)
    {
        std::string program = host_program();
        int ends[2];
        if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends) != 0)
            throw UnitProblemFound(fmt::format("no socket to its process: {}", std::strerror(errno)));
        socket_ = ends[0];
        constexpr int kSocketThere = 3;
        posix_spawn_file_actions_t actions;
        posix_spawn_file_actions_init(&actions);
        // dup2 of a number onto itself would leave it closed at exec
        if (ends[1] == kSocketThere) {
            int other = fcntl(ends[1], F_DUPFD_CLOEXEC, kSocketThere + 1);
            close(ends[1]);
            ends[1] = other;
        }
        posix_spawn_file_actions_adddup2(&actions, ends[1], kSocketThere);
        posix_spawn_file_actions_adddup2(&actions, STDERR_FILENO, STDOUT_FILENO);  // what it prints is none of our results
        const char* word = kind == UnitKind::exchange ? "exchange" : "cosimulation";
        std::string mutable_name = name;
        std::array<char*, 5> arguments{program.data(), const_cast<char*>(folder.c_str()), const_cast<char*>(word), mutable_name.data(), nullptr};
        int failed = posix_spawn(&child_, program.c_str(), &actions, nullptr, arguments.data(), environ);
        posix_spawn_file_actions_destroy(&actions);
        close(ends[1]);
        if (failed != 0) {
            close(socket_);
            throw UnitProblemFound(fmt::format("its process cannot be started: {}: {}", program, std::strerror(failed)));
        }
    }
    ~IsolatedUnit() override { end(); }
    IsolatedUnit(const IsolatedUnit&) = delete;
    IsolatedUnit& operator=(const IsolatedUnit&) = delete;

    void set_up(const Values& params, double time, double tolerance) override { ask(UnitAsks::set_up, {params, {time, tolerance}}, 0); }
    void start_values(const Values& inputs, const Values& discrete, Values& x, Values& y, Values& discrete_y) override
    {
        auto answer = ask(UnitAsks::start_values, {inputs, discrete}, 3);
        x = std::move(answer[0]), y = std::move(answer[1]), discrete_y = std::move(answer[2]);
    }
    UnitHappened begin(double time, const Values& inputs, const Values& discrete, Values& x, Values& y, Values& discrete_y) override
    {
        auto answer = ask(UnitAsks::begin, {{time}, inputs, discrete, x}, 4);
        x = std::move(answer[1]), y = std::move(answer[2]), discrete_y = std::move(answer[3]);
        return happened(answer[0]);
    }
    void look(double time, const Values& x, const Values& inputs, Values& rates, Values& y, Values& z) override
    {
        auto answer = ask(UnitAsks::look, {{time}, x, inputs}, 3);
        rates = std::move(answer[0]), y = std::move(answer[1]), z = std::move(answer[2]);
    }
    bool column(std::size_t known, Values& rates, Values& y) override
    {
        auto answer = ask(UnitAsks::column, {{static_cast<double>(known)}}, 3);
        if (answer[0].empty() || answer[0][0] == 0) return false;
        rates = std::move(answer[1]), y = std::move(answer[2]);
        return true;
    }
    UnitHappened happen(double time, Values& x, const Values& inputs, const Values& discrete, Values& discrete_y) override
    {
        auto answer = ask(UnitAsks::happen, {{time}, x, inputs, discrete}, 3);
        x = std::move(answer[1]), discrete_y = std::move(answer[2]);
        return happened(answer[0]);
    }
    bool completed_step(bool& ended) override
    {
        auto answer = ask(UnitAsks::completed, {}, 1);
        answer[0].resize(2);
        ended = answer[0][1] != 0;
        return answer[0][0] != 0;
    }
    bool do_step(double time, double step, const Values& inputs, const Values& discrete, Values& y, Values& discrete_y) override
    {
        auto answer = ask(UnitAsks::step, {{time, step}, inputs, discrete}, 3);
        y = std::move(answer[1]), discrete_y = std::move(answer[2]);
        return !answer[0].empty() && answer[0][0] != 0;
    }

private:
    static UnitHappened happened(const Values& v)
    {
        if (v.size() != 3) throw UnitCallFailed("its process gave an answer of another kind");
        return {false, v[0] != 0, v[1] != 0, v[2]};
    }
    std::vector<Values> ask(UnitAsks what, std::vector<Values> lists, std::size_t n_answers)
    {
        if (socket_ < 0) throw UnitCallFailed("its process has ended");
        UnitFrame frame{static_cast<std::uint8_t>(what), std::move(lists), {}};
        Received got = send_frame(socket_, frame) ? receive_frame(socket_, frame, patience_) : Received::gone;
        if (got == Received::late) {
            end();
            throw UnitCallFailed(fmt::format("no answer within {:.3g} s: its process was ended", patience_));
        }
        if (got == Received::gone) throw UnitCallFailed(end());
        if (frame.head == 1) throw UnitCallFailed(frame.text);
        if (frame.head == 3) throw UnitDiscards(frame.text);
        if (frame.head == 2) throw UnitProblemFound(frame.text);
        if (frame.lists.size() != n_answers) throw UnitCallFailed("its process gave an answer of another kind");
        return std::move(frame.lists);
    }
    // Ends the process; how it had ended by itself, in words.
    std::string end()
    {
        if (socket_ < 0) return "its process has ended";
        close(socket_);
        socket_ = -1;
        int status = 0;
        // one that closed its end is about to end by itself, and then tells why; else it is made to
        for (int k = 0; k < 100; ++k) {
            if (waitpid(child_, &status, WNOHANG) == child_) {
                if (WIFSIGNALED(status)) return fmt::format("its process crashed ({})", strsignal(WTERMSIG(status)));
                return fmt::format("its process ended with code {}", WIFEXITED(status) ? WEXITSTATUS(status) : -1);
            }
            usleep(k < 10 ? 200 : 2000);
        }
        kill(child_, SIGKILL);
        waitpid(child_, &status, 0);
        return "its process did not answer and was ended";
    }

    double patience_;
    int socket_ = -1;
    pid_t child_ = 0;
};

}  // namespace

std::unique_ptr<UnitInstance> make_isolated_unit(UnitKind kind, const std::string& folder, const std::string& name, double patience)
{
    return std::make_unique<IsolatedUnit>(kind, folder, name, patience);
}

}  // namespace netloop
