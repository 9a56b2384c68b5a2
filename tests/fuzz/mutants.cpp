// SPDX-License-Identifier: Apache-2.0
// Changed models are checked and run, changed tables and recordings are read: whatever comes, nothing may end but in a message of ours, and within time.
//   netloop_mutants FOLDER [--checks N] [--runs N] [--rows N] [--seed N] [--seconds N] [--jobs N]
// FOLDER holds .loop files to begin from (searched to its depths). Each text has a process of its own, in ./1, ./2, ... (one for each job); what one dies of is
// kept as ./found_SEED_NUMBER.loop or .csv, and the rest goes on.
#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <iterator>
#include <netloop/netloop.hpp>
#include <thread>

#include "model/library_set.hpp"
#include "mutate.hpp"

namespace {

namespace fs = std::filesystem;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point begun)
{
    return std::chrono::duration<double>(Clock::now() - begun).count();
}

std::string read(const fs::path& path)
{
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

void write(const std::string& path, const std::string& text)
{
    std::ofstream(path, std::ios::binary) << text;
}

// --- one text

std::atomic<bool> interrupt{false};

// How a text may end, as exit codes; every other end of its process is a finding.
enum Outcome { kRefused = 40, kSound, kFailed, kDone, kInterrupted, kBeyondMemory, kOutcomeEnd };
constexpr const char* kOutcomes[] = {"refused", "sound", "failed with a message", "done", "interrupted", "beyond memory"};

// What a message may be. Anything else that is thrown is a finding.
template <typename Work>
Outcome guarded(Work work)
{
    try {
        return work();
    } catch (const netloop::ModelError&) {
        return kRefused;
    } catch (const netloop::UsageError&) {
        return kRefused;
    } catch (const netloop::RunError&) {
        return kFailed;
    } catch (const netloop::RecordingError&) {
        return kFailed;
    } catch (const netloop::Interrupted&) {
        return kInterrupted;
    } catch (const std::bad_alloc&) {
        return kBeyondMemory;
    }
}

// What is loaded goes out of sight again: the next text finds the shipped libraries alone.
class Loaded {
public:
    explicit Loaded(netloop::Library& library) : set_(library.set()), files_(set_.n_files()) {}
    ~Loaded() { set_.discard_files(files_); }
    Loaded(const Loaded&) = delete;
    Loaded& operator=(const Loaded&) = delete;

private:
    netloop::LibrarySet& set_;
    std::size_t files_;
};

Outcome compiled(netloop::Library& library, const std::string& text, bool run, std::size_t n)
{
    Loaded loaded(library);
    library.load_text("mutant.loop", text);
    if (n % 16 == 0) {
        std::string laid_out = netloop::format_text("mutant.loop", text);
        if (netloop::format_text("mutant.loop", laid_out) != laid_out) throw std::logic_error("laid out twice, it changes");
    }
    library.check();
    if (text.find("\nstudy ") != std::string::npos)
        for (const auto& e : library.list())
            if (e.kind == "study" && e.file == "mutant.loop") netloop::time_of_runs(netloop::Study(library, e.name), run ? 3 : 0, &interrupt);
    netloop::CompiledSystem system = netloop::compile(library, {.no_scenario = true, .interrupt = &interrupt});
    if (!run) return kSound;
    constexpr const char* kIntegrators[] = {"", "", "", "bdf", "adams", "sdirk"};
    constexpr const char* kEvaluators[] = {"", "plain", "grouped", "machine"};
    netloop::RunOptions options;
    options.stop = 2;
    options.output_every = 0.25;
    options.integrator = kIntegrators[n % std::size(kIntegrators)];
    options.evaluator = kEvaluators[n % std::size(kEvaluators)];
    options.out = n % 5 == 0 ? "mutant.h5" : n % 5 == 1 ? "mutant_rows.csv" : "";
    options.interrupt = &interrupt;
    netloop::Run(system).simulate(options);
    return interrupt ? kInterrupted : kDone;
}

constexpr const char* kTableModel = "table u(s : s) -> 1 from \"mutant.csv\"\nsystem S {\n    var x : 1 init 0\n    x' = u(time) / (1 s)\n}\n";
constexpr const char* kGoodRows = "time [s],x [m],\"a \"\"b\"\" [bar]\"\r\n0,1,2\r\n0.5,1.5,2.25\r\n0.5,1.5,-3\r\n1,1e-3,4\r\n";

Outcome rows_read(netloop::Library& library)
{
    Outcome as_recording = guarded([] {
        netloop::Recording::load("mutant.csv");
        return kSound;
    });
    Outcome as_table = guarded([&] {
        Loaded loaded(library);
        library.load_text("rows.loop", kTableModel);
        netloop::Run(netloop::compile(library, {})).simulate({.stop = 1.0});
        return kDone;
    });
    return as_table == kDone ? as_recording : as_table;
}

// --- many of them

struct Job {
    std::string name;  // "check 12"
    std::string file;  // of its text, in the folder of its place
    std::string text;
    std::function<Outcome()> work;
};

// A few processes side by side. Each is asked to end after a while, and a finding if it does not.
class Workers {
public:
    Workers(std::size_t places, std::size_t seed) : places_(places), seed_(seed)
    {
        for (std::size_t i = 0; i < places; ++i) fs::create_directories(std::to_string(i + 1));
    }

    void add(Job job)
    {
        constexpr std::size_t kAtOnce = 16;  // a process takes as long to make as a small text
        waiting_.push_back(std::move(job));
        if (waiting_.size() >= kAtOnce) begin();
    }
    void finish()
    {
        if (!waiting_.empty()) begin();
        while (std::any_of(places_.begin(), places_.end(), [](const Place& place) { return place.process > 0; })) wait();
    }
    std::size_t findings() const { return findings_; }
    std::string told() const
    {
        std::string text;
        for (int i = 0; i < kOutcomeEnd - kRefused; ++i) text += fmt::format("{}{} {}", i == 0 ? "" : ", ", counts_[i], kOutcomes[i]);
        return text;
    }

private:
    struct Place {
        pid_t process = 0;
        int outcomes = -1;  // a byte for each job that has ended
        std::vector<Job> jobs;
        std::size_t ended = 0;
        bool asked = false;
        double begun_cpu = 0;  // s of computing when the job at hand began
        Clock::time_point begun;
    };

    // Waits for a place and begins there.
    void begin()
    {
        auto is_free = [](const Place& place) { return place.process <= 0; };
        while (std::none_of(places_.begin(), places_.end(), is_free)) wait();
        Place& place = *std::find_if(places_.begin(), places_.end(), is_free);
        place.jobs = std::move(waiting_);
        waiting_.clear();
        place.ended = 0;
        place.asked = false;
        place.begun = Clock::now();
        place.begun_cpu = 0;
        int ends[2];
        if (pipe(ends) != 0) throw std::runtime_error("no pipe");
        std::fflush(nullptr);
        bool looks_for_leaks = ++begun_ % 8 == 0;  // which takes longer than most texts
        place.process = fork();
        if (place.process == 0) {
            close(ends[0]);
            int code = work(place, ends[1]);
            if (looks_for_leaks) std::exit(code);
            _exit(code);
        }
        close(ends[1]);
        place.outcomes = ends[0];
        fcntl(ends[0], F_SETFL, O_NONBLOCK);
    }
    // In the process of its own.
    int work(const Place& place, int outcomes) const
    {
        struct sigaction asked = {};
        asked.sa_handler = [](int) { interrupt = true; };
        sigaction(SIGTERM, &asked, nullptr);
        if (chdir(std::to_string(&place - places_.data() + 1).c_str()) != 0) return 1;
        for (const Job& job : place.jobs) {
            write(job.file, job.text);
            interrupt = false;
            try {
                char code = static_cast<char>(guarded(job.work));
                if (::write(outcomes, &code, 1) != 1) return 1;
            } catch (const std::exception& error) {
                fmt::print(stderr, "{}: {}\n", job.name, error.what());
                std::fflush(nullptr);
                return 1;
            }
        }
        return 0;
    }
    // Seconds of computing: how busy the machine is with other things makes no finding.
    static double computed(const Place& place)
    {
        clockid_t clock;
        timespec t{};
        if (clock_getcpuclockid(place.process, &clock) != 0 || clock_gettime(clock, &t) != 0) return place.begun_cpu;
        return static_cast<double>(t.tv_sec) + 1e-9 * static_cast<double>(t.tv_nsec);
    }
    void look(Place& place)
    {
        char code = 0;
        while (::read(place.outcomes, &code, 1) == 1) {
            if (code >= kRefused && code < kOutcomeEnd) ++counts_[code - kRefused];
            ++place.ended;
            place.asked = false;
            place.begun = Clock::now();
            place.begun_cpu = computed(place);
        }
    }
    void wait()
    {
        constexpr double kPatience = 2, kGivenUp = 40, kStands = 900;  // s of computing, sanitizers are slow; s of the clock
        bool ended = false;
        for (Place& place : places_) {
            if (place.process <= 0) continue;
            look(place);
            int status = 0;
            std::string found;
            double s = computed(place) - place.begun_cpu;
            if (waitpid(place.process, &status, WNOHANG) == place.process) {
                look(place);
                if (WIFSIGNALED(status))
                    found = fmt::format("signal {}", WTERMSIG(status));
                else if (WEXITSTATUS(status) != 0)
                    found = fmt::format("exit code {}", WEXITSTATUS(status));
            } else if (s > kGivenUp || seconds_since(place.begun) > kStands) {
                kill(place.process, SIGKILL);
                waitpid(place.process, &status, 0);
                found = fmt::format("not ended after {:.0f} s of computing", s);
            } else {
                if (s > kPatience && !place.asked) {
                    kill(place.process, SIGTERM);
                    place.asked = true;
                }
                continue;
            }
            ended = true;
            place.process = 0;
            close(place.outcomes);
            if (!found.empty()) keep(place, found);
        }
        if (!ended) std::this_thread::sleep_for(std::chrono::microseconds(500));
    }
    void keep(Place& place, const std::string& why)
    {
        ++findings_;
        bool at_end = place.ended >= place.jobs.size();  // leaks of one of them: which is not known
        const Job& job = place.jobs[at_end ? place.jobs.size() - 1 : place.ended];
        std::string kept = fmt::format("found_{}_{}{}", seed_, job.name, fs::path(job.file).extension().string());
        std::replace(kept.begin(), kept.end(), ' ', '_');
        write(kept, job.text);
        fmt::print(stderr, "{}: {}{} of seed {}: {}\n", kept, at_end ? "one of those before " : "", job.name, seed_, why);
        if (at_end) return;
        // those behind it have had no turn
        for (std::size_t k = place.ended + 1; k < place.jobs.size(); ++k) waiting_.push_back(std::move(place.jobs[k]));
    }

    std::vector<Place> places_;
    std::vector<Job> waiting_;
    std::size_t seed_, begun_ = 0, findings_ = 0;
    std::size_t counts_[kOutcomeEnd - kRefused] = {};
};

}  // namespace

int main(int argc, char** argv)
{
    std::string folder;
    std::size_t checks = 0, runs = 0, rows = 0, seed = 1, jobs = 1;
    double seconds = 1e9;
    for (int i = 1; i < argc; ++i) {
        std::string word = argv[i];
        auto number = [&] { return std::strtod(i + 1 < argc ? argv[++i] : "0", nullptr); };
        auto count = [&] { return static_cast<std::size_t>(number()); };
        if (word == "--checks")
            checks = count();
        else if (word == "--runs")
            runs = count();
        else if (word == "--rows")
            rows = count();
        else if (word == "--seed")
            seed = count();
        else if (word == "--seconds")
            seconds = number();
        else if (word == "--jobs")
            jobs = std::max<std::size_t>(1, count());
        else
            folder = word;
    }
    std::vector<std::string> texts;
    std::vector<fs::path> files;
    if (!folder.empty())
        for (const auto& entry : fs::recursive_directory_iterator(folder))
            if (entry.path().extension() == ".loop") files.push_back(entry.path());
    std::sort(files.begin(), files.end());   // the same texts everywhere
    constexpr std::size_t kLongest = 12000;  // long texts take long to compile, and say no more
    for (const fs::path& file : files)
        if (std::string text = read(file); text.size() < kLongest) texts.push_back(std::move(text));
    if (texts.empty()) {
        fmt::print(stderr, "netloop_mutants FOLDER [--checks N] [--runs N] [--rows N] [--seed N] [--seconds N] [--jobs N]\n");
        return 2;
    }
    // read once, before the processes part
    netloop::Library library = netloop::Library::standard();
    std::string uses;
    for (const std::string& package : library.packages()) uses += "use " + package + "\n";
    library.load_text("uses.loop", uses);

    Workers workers(jobs, seed);
    auto begun = Clock::now();
    std::size_t n_checks = 0, n_runs = 0, n_rows = 0;
    for (std::size_t n = 0; seconds_since(begun) < seconds && (n < checks || n < runs || n < rows); ++n) {
        if (n < checks) {
            fuzz::Random random(seed, 2 * n);
            std::string text = fuzz::mutant(texts, fuzz::Reach::any, random);
            workers.add({fmt::format("check {}", n), "mutant.loop", text, [&library, text, n] { return compiled(library, text, false, n); }});
            ++n_checks;
        }
        if (n < runs) {
            fuzz::Random random(seed, 2 * n + 1);
            std::string text = fuzz::mutant(texts, fuzz::Reach::numbers, random);
            workers.add({fmt::format("run {}", n), "mutant.loop", text, [&library, text, n] { return compiled(library, text, true, n); }});
            ++n_runs;
        }
        if (n < rows) {
            fuzz::Random random(seed, n);
            workers.add({fmt::format("rows {}", n), "mutant.csv", fuzz::mutated_rows(kGoodRows, random), [&library] { return rows_read(library); }});
            ++n_rows;
        }
        constexpr std::size_t kWord = 1000;  // a long campaign says how far it is
        if ((n + 1) % kWord == 0)
            fmt::print(stderr, "{} checks, {} runs, {} rows begun after {:.0f} s; {} found\n", n_checks, n_runs, n_rows, seconds_since(begun),
                       workers.findings());
    }
    workers.finish();
    fmt::print("{} checks, {} runs, {} rows of seed {}: {}; {} found\n", n_checks, n_runs, n_rows, seed, workers.told(), workers.findings());
    return workers.findings() == 0 ? 0 : 1;
}
