// SPDX-License-Identifier: Apache-2.0
// A study on a cluster: workers as a job array of Slurm. Its own commands are used, without a shell: sbatch, squeue, scontrol, scancel.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>
#include <thread>

#include "files/input_file.hpp"
#include "files/other_program.hpp"
#include "netloop/study.hpp"

namespace netloop {
namespace {
namespace fs = std::filesystem;

constexpr std::size_t kMostSaid = kMiB;
constexpr auto kLookEvery = std::chrono::milliseconds(1000);

std::string text_in(const fs::path& file)
{
    return first_bytes(file.string(), kMostSaid);
}

// What a command of Slurm prints; throws with what it says where it fails.
std::string asked(const std::string& program, const std::vector<std::string>& arguments)
{
    OwnFolder folder;
    int code = run_program(program, arguments, {.output = (folder / "out").string(), .said = (folder / "said").string()});
    if (code == 127)
        throw Error("slurm-failed", fmt::format("there is no '{}' on this machine", program), "--on slurm needs the commands of Slurm (Debian: slurm-client)");
    if (code != 0) {
        std::string said = first_words((folder / "said").string());
        throw Error("slurm-failed", fmt::format("{} ended with {}: {}", program, code, said));
    }
    return text_in(folder / "out");
}

// A word for the shell of the job's script.
std::string quoted(const std::string& word)
{
    std::string out = "'";
    for (char c : word) out += c == '\'' ? "'\\''" : std::string(1, c);
    return out + "'";
}

// The last lines of what a worker printed.
std::string last_words(const fs::path& file)
{
    std::istringstream in(text_in(file));
    std::string last;
    for (std::string line; std::getline(in, line);)
        if (line.find_first_not_of(" \r") != std::string::npos) last = line;
    return last;
}

class SlurmJob {
public:
    SlurmJob(const ClusterOptions& cluster, const StudyOptions& options, std::int64_t study)
        : folder_(cluster.folder.empty() ? fs::current_path() : fs::path(cluster.folder))
    {
        OwnFolder folder;
        std::string script = (folder / "workers.sh").string();
        std::string command = fmt::format("exec {} work --quiet --study {}", quoted(cluster.program), study);
        if (options.jobs > 0) command += fmt::format(" --jobs {}", options.jobs);
        if (options.limit) command += fmt::format(" --limit {}s", *options.limit);
        if (!options.recordings.empty()) command += " --recordings " + quoted(options.recordings);
        std::ofstream(script) << "#!/bin/sh\n" << command << "\n";
        setenv("NETLOOP_STORE", cluster.store.c_str(), 1);  // handed on to the workers, so that a password stands on no command line
        std::vector<std::string> arguments{"--parsable",
                                           fmt::format("--array=1-{}", cluster.workers),
                                           fmt::format("--job-name=netloop-{}", study),
                                           "--export=ALL",
                                           fmt::format("--output={}/netloop-worker-%A_%a.txt", folder_.string()),
                                           fmt::format("--cpus-per-task={}", std::max(1u, options.jobs))};
        arguments.insert(arguments.end(), cluster.submit_options.begin(), cluster.submit_options.end());
        arguments.push_back(script);
        std::string said = asked("sbatch", arguments);
        id_ = said.substr(0, said.find_first_of(";\n"));
        if (id_.empty() || id_.find_first_not_of("0123456789") != std::string::npos)
            throw Error("slurm-failed", fmt::format("sbatch said '{}', which is no number of a job", said));
    }

    const std::string& id() const { return id_; }
    void cancel() const noexcept
    {
        try {
            asked("scancel", {id_});
        } catch (const std::exception&) {
            // it is over, or Slurm is away: then workers end by themselves when nothing is left
        }
    }

    /// Whether any of its tasks waits or runs.
    bool is_there() const
    {
        std::string list = asked("squeue", {"--noheader", "--states=PENDING,RUNNING,COMPLETING,CONFIGURING,SUSPENDED", "--format=%T", "--jobs", id_});
        return list.find_first_not_of(" \n") != std::string::npos;
    }

    /// What became of tasks that did not end well, a line each, once each; and removes what those printed that did.
    std::vector<std::string> failures()
    {
        std::vector<std::string> found;
        std::istringstream in(asked("scontrol", {"--oneliner", "show", "job", id_}));
        for (std::string line; std::getline(in, line);) {
            auto field = [&](const std::string& name) {
                std::size_t at = line.find(name + "=");
                if (at == std::string::npos) return std::string();
                at += name.size() + 1;
                return line.substr(at, line.find(' ', at) - at);
            };
            std::string state = field("JobState"), task = field("ArrayTaskId");
            if (state.empty() || task.empty()) continue;
            fs::path printed = folder_ / fmt::format("netloop-worker-{}_{}.txt", id_, task);
            std::error_code error;
            if (state == "COMPLETED") fs::remove(printed, error);
            if (state == "COMPLETED" || state == "PENDING" || state == "RUNNING" || state == "COMPLETING" || state == "CANCELLED" || !told_.insert(task).second)
                continue;
            std::string said = last_words(printed);
            found.push_back(fmt::format("worker {} of job {} ended as {} (exit code {}) on {}{}", task, id_, state, field("ExitCode"), field("NodeList"),
                                        said.empty() ? "" : ": " + said));
        }
        return found;
    }

private:
    fs::path folder_;
    std::string id_;
    std::set<std::string> told_;
};

}  // namespace

StudySummary run_study_on_slurm(const Study& study, Store& store, const StudyOptions& options, const ClusterOptions& cluster)
{
    if (!store.is_shared()) throw UsageError("workers on other machines cannot share an SQLite file: say --store postgresql://user@host/database");
    StudyOptions registering = options;
    registering.only_register = true;
    StudySummary summary = run_study(study, store, registering);
    auto begun = std::chrono::steady_clock::now();
    auto since = [&] { return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count(); };
    SlurmJob job(cluster, options, summary.id);
    summary.notes.push_back(fmt::format("job {} of {} workers", job.id(), cluster.workers));
    auto before = static_cast<double>(summary.done);
    bool asked_to_end = false;
    for (bool last = false; !last;) {
        asked_to_end = options.interrupt != nullptr && options.interrupt->load();
        bool there = job.is_there();
        StudyRecord now = store.study(summary.id);
        summary.done = static_cast<std::size_t>(now.n_done);
        summary.failed = static_cast<std::size_t>(now.n_failed);
        summary.complete = now.complete();
        last = summary.complete || asked_to_end || !there;
        for (const std::string& failure : job.failures()) summary.notes.push_back(failure);
        if (options.progress) {
            double gained = static_cast<double>(summary.done) - before;
            options.progress(
                {summary.done, summary.failed, summary.all, gained > 0 ? since() / gained * static_cast<double>(summary.all - summary.done) : std::nan("")});
        }
        if (!last) std::this_thread::sleep_for(kLookEvery);
    }
    if (asked_to_end) {
        job.cancel();
        summary.notes.push_back(fmt::format("job {} was cancelled; what is done is kept", job.id()));
    } else {
        // those that end when nothing is left
        for (int k = 0; k < 30 && job.is_there(); ++k) std::this_thread::sleep_for(std::chrono::milliseconds(200));
        for (const std::string& failure : job.failures()) summary.notes.push_back(failure);
    }
    summary.wall_seconds = since();
    summary.jobs = cluster.workers * std::max(1u, options.jobs);
    return summary;
}

}  // namespace netloop
