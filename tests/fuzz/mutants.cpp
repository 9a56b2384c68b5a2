// SPDX-License-Identifier: Apache-2.0
// Changed models are checked and run, changed tables and recordings are read: whatever comes, nothing may end but in a message of ours, and within time.
//   netloop_mutants FOLDER [--checks N] [--runs N] [--rows N] [--seed N] [--seconds N]
// FOLDER holds .loop files to begin from (searched to its depths). The text at hand stands in ./mutant.loop or ./mutant.csv, so that a crash leaves it there.
#include <fmt/format.h>
#include <sys/resource.h>

#include <atomic>
#include <chrono>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <mutex>
#include <netloop/netloop.hpp>
#include <thread>

#include "mutate.hpp"

namespace {

namespace fs = std::filesystem;
using Clock = std::chrono::steady_clock;

std::atomic<bool> interrupt{false};

// Asks for an end after a while, and gives the whole up if that is not heard.
class Watch {
public:
    Watch() : thread_([this] { work(); }) {}
    ~Watch()
    {
        {
            std::lock_guard lock(mutex_);
            end_ = true;
        }
        changed_.notify_all();
        thread_.join();
    }
    Watch(const Watch&) = delete;
    Watch& operator=(const Watch&) = delete;
    void begin()
    {
        std::lock_guard lock(mutex_);
        interrupt = false;
        begun_ = Clock::now();
        on_ = true;
    }
    void finish()
    {
        std::lock_guard lock(mutex_);
        on_ = false;
    }

private:
    void work()
    {
        constexpr auto kLook = std::chrono::milliseconds(100);
        constexpr double kPatience = 2, kGivenUp = 40;  // s; sanitizers are slow
        std::unique_lock lock(mutex_);
        while (!end_) {
            changed_.wait_for(lock, kLook);
            if (!on_) continue;
            double s = std::chrono::duration<double>(Clock::now() - begun_).count();
            if (s > kPatience) interrupt = true;
            if (s > kGivenUp) {
                fmt::print(stderr, "not ended {:.0f} s after it was asked to\n", s - kPatience);
                std::_Exit(3);
            }
        }
    }
    std::mutex mutex_;
    std::condition_variable changed_;
    bool on_ = false, end_ = false;
    Clock::time_point begun_;
    std::thread thread_;
};

std::string read(const fs::path& path)
{
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

void write(const std::string& path, const std::string& text)
{
    std::ofstream(path, std::ios::binary) << text;
}

struct Counts {
    std::size_t refused = 0, sound = 0, failed = 0, done = 0, interrupted = 0, memory = 0;
};

// What a message may be. Anything else that is thrown ends the program.
template <typename Work>
void guarded(Counts& counts, Work work)
{
    try {
        work();
    } catch (const netloop::ModelError&) {
        ++counts.refused;
    } catch (const netloop::UsageError&) {
        ++counts.refused;
    } catch (const netloop::RunError&) {
        ++counts.failed;
    } catch (const netloop::RecordingError&) {
        ++counts.failed;
    } catch (const netloop::Interrupted&) {
        ++counts.interrupted;
    } catch (const std::bad_alloc&) {
        ++counts.memory;
    }
}

void check(const std::string& text, bool run, std::size_t n, Counts& counts)
{
    guarded(counts, [&] {
        netloop::Library library = netloop::Library::standard();
        library.load_text("mutant.loop", text);
        if (n % 16 == 0) {
            std::string laid_out = netloop::format_text("mutant.loop", text);
            if (netloop::format_text("mutant.loop", laid_out) != laid_out) throw std::logic_error("laid out twice, it changes");
        }
        library.check();
        netloop::CompiledSystem system = netloop::compile(library, {.no_scenario = true, .interrupt = &interrupt});
        ++counts.sound;
        if (!run) return;
        constexpr const char* kIntegrators[] = {"", "", "", "bdf", "adams", "sdirk"};
        constexpr const char* kEvaluators[] = {"", "plain", "grouped", "machine"};
        netloop::RunOptions options;
        options.stop = 2;
        options.output_every = 0.25;
        options.integrator = kIntegrators[n % std::size(kIntegrators)];
        options.evaluator = kEvaluators[n % std::size(kEvaluators)];
        options.out = n % 5 == 0 ? "mutant.h5" : n % 5 == 1 ? "mutant_rows.csv" : "";
        options.interrupt = &interrupt;
        try {
            netloop::Run(system).simulate(options);
        } catch (const netloop::UsageError&) {  // adams for equations that must be solved
            ++counts.failed;
            return;
        }
        interrupt ? ++counts.interrupted : ++counts.done;
    });
}

}  // namespace

int main(int argc, char** argv)
{
    std::string folder;
    std::size_t checks = 0, runs = 0, rows = 0, seed = 1;
    double seconds = 1e9;
    for (int i = 1; i < argc; ++i) {
        std::string word = argv[i];
        auto number = [&] { return std::strtod(i + 1 < argc ? argv[++i] : "0", nullptr); };
        if (word == "--checks")
            checks = static_cast<std::size_t>(number());
        else if (word == "--runs")
            runs = static_cast<std::size_t>(number());
        else if (word == "--rows")
            rows = static_cast<std::size_t>(number());
        else if (word == "--seed")
            seed = static_cast<std::size_t>(number());
        else if (word == "--seconds")
            seconds = number();
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
        fmt::print(stderr, "netloop_mutants FOLDER [--checks N] [--runs N] [--rows N] [--seed N] [--seconds N]\n");
        return 2;
    }
    Watch watch;
    auto begun = Clock::now();
    auto in_time = [&] { return std::chrono::duration<double>(Clock::now() - begun).count() < seconds; };
    Counts counts;
    std::size_t n_checks = 0, n_runs = 0, n_rows = 0;
    const std::string table_model = "table u(s : s) -> 1 from \"mutant.csv\"\nsystem S {\n    var x : 1 init 0\n    x' = u(time) / (1 s)\n}\n";
    const std::string good_rows = "time [s],x [m],\"a \"\"b\"\" [bar]\"\r\n0,1,2\r\n0.5,1.5,2.25\r\n0.5,1.5,-3\r\n1,1e-3,4\r\n";
    for (std::size_t n = 0; in_time() && (n < checks || n < runs || n < rows); ++n) {
        try {
            if (n < checks) {
                fuzz::Random random(seed, 2 * n);
                std::string text = fuzz::mutant(texts, fuzz::Reach::any, random);
                write("mutant.loop", text);
                watch.begin();
                check(text, false, n, counts);
                watch.finish();
                ++n_checks;
            }
            if (n < runs) {
                fuzz::Random random(seed, 2 * n + 1);
                std::string text = fuzz::mutant(texts, fuzz::Reach::numbers, random);
                write("mutant.loop", text);
                watch.begin();
                check(text, true, n, counts);
                watch.finish();
                ++n_runs;
            }
            if (n < rows) {
                fuzz::Random random(seed, n);
                write("mutant.csv", fuzz::mutated_rows(good_rows, random));
                watch.begin();
                guarded(counts, [] { netloop::Recording::load("mutant.csv"); });
                guarded(counts, [&] {
                    netloop::Library library = netloop::Library::standard();
                    library.load_text("rows.loop", table_model);
                    netloop::Run(netloop::compile(library, {})).simulate({.stop = 1.0});
                });
                watch.finish();
                ++n_rows;
            }
        } catch (const std::exception& error) {
            fmt::print(stderr, "seed {}, number {}: {}\n", seed, n, error.what());
            return 1;
        }
    }
    fmt::print("{} checks, {} runs, {} rows of seed {}: {} refused, {} sound, {} failed with a message, {} done, {} interrupted, {} beyond memory\n", n_checks,
               n_runs, n_rows, seed, counts.refused, counts.sound, counts.failed, counts.done, counts.interrupted, counts.memory);
    return 0;
}
