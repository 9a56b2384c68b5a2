// SPDX-License-Identifier: Apache-2.0
// What studies cost beside the runs themselves: threads, the store, a million runs.
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>
#include <netloop/netloop.hpp>

#include <chrono>
#include <filesystem>

#include "store/store_data.hpp"

namespace nl = netloop;
namespace fs = std::filesystem;

namespace {

const fs::path kFolder = fs::temp_directory_path() / "netloop_bench_studies";

double now()
{
    return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

const char* const kTenStates =
    "component Mass { param m : kg = 1 kg ; param k : N/m = 40 N/m ; param d : N*s/m = 1 N*s/m ; var x : m init 0.1 m ; var v : m/s init 0 m/s ; input left : "
    "m ; "
    "input right : m\n  x' = v ; m * v' = k * (left - x) + k * (right - x) - d * v }\n"
    "system Row { part a, b, c, d, e : Mass\n  0 m -> a.left\n b.x -> a.right\n a.x -> b.left\n c.x -> b.right\n b.x -> c.left\n d.x -> c.right\n c.x -> "
    "d.left\n e.x -> d.right\n"
    "  d.x -> e.left\n 0 m -> e.right }\n"
    "scenario ring of Row { stop at 2 s ; measure top = max(a.x) ; measure last = final(e.x) }\n"
    "study many of Row from ring { vary a.m over 0.5 kg .. 2 kg ; vary b.k over 20 N/m .. 80 N/m ; vary c.d over 0.2 N*s/m .. 3 N*s/m ; take 100000 }\n";

nl::StudySummary timed(const nl::Study& study, unsigned jobs, const char* what)
{
    fs::path file = kFolder / "s.sqlite";
    for (const char* end : {"", "-wal", "-shm"}) fs::remove(file.string() + end);
    nl::Store store = nl::Store::open(file.string());
    nl::StudySummary s = nl::run_study(study, store, {.jobs = jobs});
    fmt::print("{:<44} {:>7} runs, {} thread{}: {:8.2f} s, {:8.2f} s of them runs; beside the runs {:.2f} %\n", what, s.here, jobs, jobs == 1 ? " " : "s",
               s.wall_seconds, s.run_seconds, 100 * (s.wall_seconds * jobs / s.run_seconds - 1));
    return s;
}

void million()
{
    fs::path file = kFolder / "million.sqlite";
    fs::remove(file);
    {
        nl::Store store = nl::Store::open(file.string());
        nl::StudyRecord record;
        record.name = "million", record.system = "Row", record.n_runs = 1'000'000, record.texts = "t";
        for (const char* name : {"a", "b", "c"}) record.columns.push_back({.name = name, .unit = "m"});
        for (const char* name : {"peak", "energy", "time"})
            record.columns.push_back({.kind = nl::StudyColumn::Kind::measure, .name = name, .unit = "bar", .scale = 1e5});
        std::int64_t id = store.data().add_study(record, {{"m.loop", "x"}}, "{}", "f");
        std::vector<nl::StudyRow> rows;
        std::uint64_t random = 1;
        for (std::int64_t r = 0; r < record.n_runs; ++r) {
            nl::StudyRow row{r, "done", "", "", 1e-3, 100, "worker", "", {}};
            for (int c = 0; c < 6; ++c) row.values.push_back(static_cast<double>((random = random * 6364136223846793005u + 1442695040888963407u) >> 40u));
            rows.push_back(std::move(row));
            if (rows.size() == 20000) store.data().keep(id, "w", rows, {}, 10), rows.clear();
        }
    }
    double begin = now();
    nl::Store store = nl::Store::open_existing(file.string());
    auto best = store.rows(store.study(1), {.sort = "energy", .most = 20});
    fmt::print("{:<44} {:.2f} s for the best {} of a million runs\n", "opening a store and sorting", now() - begin, best.size());
    begin = now();
    auto some = store.rows(store.study(1), {.sort = "energy", .most = 20, .where = "peak < 60 bar and a > 1000 m"});
    fmt::print("{:<44} {:.2f} s for {} of a million runs\n", "the same with a condition", now() - begin, some.size());
}

}  // namespace

int main()
{
    fs::remove_all(kFolder);
    fs::create_directories(kFolder);
    nl::Library library = nl::Library::standard();
    library.load_file(NETLOOP_SOURCE_DIR "/bench/two_thousand.loop");
    nl::Study bridge(library, "two_thousand");
    double one = timed(bridge, 1, "the small bridge").wall_seconds, two = timed(bridge, 2, "the small bridge").wall_seconds;
    fmt::print("{:<44} {:.2f} times as fast with two threads (asked 1.9)\n", "", one / two);
    // what the machine itself gives: the same on two cores by two programs that share nothing
    double begin = now();
    for (int k = 0; k < 2; ++k)
        if (fork() == 0) {
            nl::Store store = nl::Store::open((kFolder / fmt::format("own{}.sqlite", k)).string());
            nl::run_study(bridge, store, {.jobs = 1});
            _exit(0);
        }
    while (wait(nullptr) > 0) continue;
    double apart = now() - begin;
    fmt::print("{:<44} {:.2f} times as fast by two programs that share nothing, {:.2f} of that by two threads\n", "", 2 * one / apart, apart / (2 * two));
    nl::Library rows = nl::Library::standard();
    rows.load_text("row.loop", kTenStates);
    timed(nl::Study(rows), 2, "ten states, two seconds");
    million();
    fs::remove_all(kFolder);
}
