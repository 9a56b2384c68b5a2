// SPDX-License-Identifier: Apache-2.0
// Studies shared among processes and machines: workers that die, a database that goes away, a cluster.
#include <doctest/doctest.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <random>
#include <thread>

#include "support/servers.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("study");

namespace {

const std::string kModel =
    "system Bob { param mass : kg = 2 kg in 0.01 kg .. 100 kg ; var x : m init 0.1 m ; mass * x'' = -(100 N/m) * x ; init x' = 0 m/s }\n"
    "scenario swing of Bob { stop at STOP s ; measure half = first(time when x < 0 m) ; measure last = final(x) }\n"
    "study s of Bob from swing { vary mass over 1 kg .. 3 kg ; take COUNT }\n";

std::string model(int stop, int count)
{
    std::string text = kModel;
    text.replace(text.find("STOP"), 4, std::to_string(stop));
    text.replace(text.find("COUNT"), 5, std::to_string(count));
    return text;
}

nl::Study study_of(const std::string& text)
{
    nl::Library library = nl::Library::standard();
    library.load_text("bob.loop", text);
    return nl::Study(library);
}

// A worker process.
pid_t begin_worker(const std::string& store)
{
    pid_t pid = fork();
    if (pid == 0) {
        const char* program = std::getenv("NETLOOP_PROGRAM");
        execl(program, program, "work", "--quiet", "--jobs", "1", "--store", store.c_str(), static_cast<char*>(nullptr));
        _exit(127);
    }
    return pid;
}

int end_of(pid_t pid)
{
    int status = 0;
    waitpid(pid, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

// Every run once, each with the numbers that it has when one process does all of them.
void check_all(nl::Store& store, std::int64_t id, const nl::Study& study)
{
    nl::StudyRecord record = store.study(id);
    CHECK(record.complete());
    CHECK(store.check().empty());
    test::Scratch scratch;
    nl::Store alone = nl::Store::open(scratch / "alone.sqlite");
    nl::StudySummary one = nl::run_study(study, alone, {.jobs = 1});
    auto expected = alone.rows(alone.study(one.id)), found = store.rows(record);
    REQUIRE(found.size() == expected.size());
    for (std::size_t i = 0; i < found.size(); ++i) CHECK(found[i].values == expected[i].values);
}

}  // namespace

TEST_CASE("workers are killed at any moment: no run is lost, none is there twice")
{
    test::Postgres server;
    if (!server.there()) {
        MESSAGE("left out: PostgreSQL is not installed (Debian: postgresql)");
        return;
    }
    const char* wanted = std::getenv("NETLOOP_KILLS");
    int kills = wanted != nullptr ? std::max(1, std::atoi(wanted)) : 12;
    nl::Study study = study_of(model(20, 300 + 60 * kills));
    nl::Store store = nl::Store::open(server.url());
    std::int64_t id = nl::run_study(study, store, {.only_register = true}).id;
    std::mt19937 random(7);
    std::vector<pid_t> workers{begin_worker(server.url()), begin_worker(server.url())};
    for (int k = 0; k < kills; ++k) {
        std::this_thread::sleep_for(std::chrono::milliseconds(60 + random() % 250));
        pid_t& victim = workers[random() % workers.size()];
        kill(victim, SIGKILL);
        end_of(victim);
        victim = begin_worker(server.url());
    }
    for (pid_t w : workers) CHECK(end_of(w) == 0);
    check_all(store, id, study);
}

TEST_CASE("a database that goes away for some seconds is waited for")
{
    test::Postgres server;
    if (!server.there()) return;
    nl::Study study = study_of(model(40, 500));
    nl::Store store = nl::Store::open(server.url());
    std::int64_t id = nl::run_study(study, store, {.only_register = true}).id;
    pid_t worker = begin_worker(server.url());
    std::this_thread::sleep_for(std::chrono::milliseconds(1200));
    server.stop();
    CHECK_THROWS_AS(nl::Store::open(server.url()), nl::StoreError);
    std::this_thread::sleep_for(std::chrono::seconds(3));
    server.start();
    CHECK(end_of(worker) == 0);
    nl::Store after = nl::Store::open(server.url());
    check_all(after, id, study);
}

TEST_CASE("a program is killed in the middle of a study in a file: --resume goes on at once")
{
    test::Scratch scratch;
    test::write_file(scratch / "bob.loop", model(100, 300));
    pid_t pid = fork();
    if (pid == 0) {
        const char* program = std::getenv("NETLOOP_PROGRAM");
        std::string file = scratch / "bob.loop";
        execl(program, program, "study", file.c_str(), "--quiet", "--jobs", "2", static_cast<char*>(nullptr));
        _exit(127);
    }
    // as soon as something is kept
    for (int k = 0; k < 200 && test::shell("sqlite3 " + (scratch / "bob.studies.sqlite") + " 'select 1 from studies where n_done > 0'").out != "1\n"; ++k)
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    kill(pid, SIGKILL);
    CHECK(end_of(pid) == 128 + SIGKILL);
    nl::Store store = nl::Store::open_existing(scratch / "bob.studies.sqlite");
    nl::StudyRecord half = store.studies().at(0);
    CHECK(half.n_done > 0);
    CHECK(!half.complete());
    CHECK(store.check().empty());
    auto begun = std::chrono::steady_clock::now();
    test::Outcome o = test::netloop("study " + (scratch / "bob.loop") + " --resume --quiet");
    CHECK(o.code == 0);
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(15));  // without waiting for the lease of the dead
    check_all(store, half.id, study_of(model(100, 300)));
}

TEST_CASE("two studies at once in one store")
{
    test::Scratch scratch;
    test::write_file(scratch / "a.loop", model(20, 400));
    test::write_file(scratch / "b.loop", model(21, 400));
    std::string program = std::getenv("NETLOOP_PROGRAM"), store = scratch / "s.sqlite";
    test::Outcome o = test::shell(program + " study " + (scratch / "a.loop") + " --quiet --store " + store + " & " + program + " study " +
                                  (scratch / "b.loop") + " --quiet --store " + store + " ; wait");
    CHECK(o.err == "");
    nl::Store both = nl::Store::open_existing(store);
    REQUIRE(both.studies().size() == 2);
    for (const nl::StudyRecord& s : both.studies()) CHECK(s.complete());
    CHECK(both.check().empty());
}

TEST_CASE("Slurm: workers as a job array on two nodes, cancelled, and their failures told")
{
    test::Postgres server;
    test::Slurm cluster;
    if (!server.there() || !cluster.there()) {
        MESSAGE("left out: PostgreSQL or Slurm is not installed, or this is not root (Debian: postgresql, slurmctld, slurmd, munge)");
        return;
    }
    test::Scratch scratch;
    std::string program = std::getenv("NETLOOP_PROGRAM"), in = "cd " + scratch.path() + " && " + cluster.environment();
    test::write_file(scratch / "bob.loop", model(40, 500));
    std::string command = in + program + " study bob.loop --on slurm --workers 2 --jobs 1 --quiet --store '" + server.url() + "'";
    test::Outcome o = test::shell(command);
    CHECK(o.code == 0);
    CHECK(o.out.find("done: 500 runs") != std::string::npos);
    nl::Store store = nl::Store::open(server.url());
    check_all(store, 1, study_of(model(40, 500)));
    CHECK(server.ask("select count(distinct worker) from netloop.runs_1") == "2\n");

    // Ctrl-C: the job is cancelled, what is done is kept, and others go on
    test::write_file(scratch / "bob.loop", model(200, 400));
    o = test::shell(in + "timeout -s INT 4 " + program + " study bob.loop --on slurm --jobs 1 --set mass='1.5 kg' --quiet --store '" + server.url() + "'");
    CHECK(o.err.find("was cancelled; what is done is kept") != std::string::npos);
    for (int k = 0; k < 50 && !test::shell(cluster.environment() + "squeue -h").out.empty(); ++k) std::this_thread::sleep_for(std::chrono::milliseconds(200));
    CHECK(test::shell(cluster.environment() + "squeue -h").out == "");
    o = test::shell(in + program + " work --quiet --store '" + server.url() + "'");
    CHECK(o.code == 0);
    CHECK(store.study(2).complete());

    // workers that cannot start are told with what Slurm says of them
    test::write_file(scratch / "bob.loop", model(10, 20));
    o = test::shell(command + " --sbatch=--chdir=/nowhere/at/all --sbatch=--time=0:01");
    if (o.code == 0) o = test::shell(command + " --sbatch=--mem=999999G");
    CHECK(o.code != 0);
    CHECK_MESSAGE((o.err.find("slurm") != std::string::npos || o.err.find("sbatch") != std::string::npos || o.err.find("worker") != std::string::npos), o.err);
    o = test::shell(in + program + " study bob.loop --on slurm");
    CHECK(o.err.find("cannot share an SQLite file") != std::string::npos);
}
