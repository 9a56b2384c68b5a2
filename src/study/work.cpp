// SPDX-License-Identifier: Apache-2.0
// The work on a study: claims runs from the store, has them made by all threads, keeps what comes back. The same for one program and for many machines.
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <random>
#include <set>

#include "base/interrupt.hpp"
#include "files/other_program.hpp"
#include "store/store_data.hpp"
#include "study/case_runner.hpp"
#include "study/threads.hpp"

namespace netloop {
namespace {
namespace fs = std::filesystem;
using Clock = std::chrono::steady_clock;

constexpr double kLease = 20;       // s: a worker that is not heard of for so long has lost what it claimed
constexpr double kHeartbeat = 5;    // s
constexpr double kKeepEvery = 0.5;  // s between transactions
constexpr double kKeepShare = 40;   // times as long as a transaction took
constexpr std::size_t kKeepAtMost = 2000;
constexpr double kBatch = 2;  // s of work that is claimed at once
constexpr std::int64_t kMostClaimed = 20'000;
constexpr double kPatience = 120;  // s that a database may be away

std::string host_name()
{
    char name[256] = "";
    gethostname(name, sizeof name - 1);
    return name;
}

std::string new_owner()
{
    static std::atomic<unsigned> count{0};
    return fmt::format("{}:{}:{:08x}-{}", host_name(), getpid(), std::random_device{}(), count++);
}

// Of a worker of this machine whose process is gone.
bool is_dead_here(const std::string& owner)
{
    std::string host = host_name() + ":";
    if (!owner.starts_with(host)) return false;
    long pid = std::strtol(owner.c_str() + host.size(), nullptr, 10);
    return pid > 0 && pid != getpid() && kill(static_cast<pid_t>(pid), 0) != 0 && errno == ESRCH;
}

class StudyWork {
public:
    StudyWork(const StudyData& study, Store& store, std::int64_t id, const StudyOptions& options)
        : study_(study), store_(store), data_(store.data()), id_(id), options_(options), owner_(new_owner()), jobs_(jobs_for(options.jobs, study.n_runs))
    {
    }

    StudySummary run()
    {
        begun_ = last_kept_ = last_told_ = Clock::now();
        if (options_.recordings == "database") passing_.emplace();
        record_ = store_.study(id_);
        done_before_ = record_.n_done;
        failed_before_ = record_.n_failed;
        take_from_the_dead();
        std::vector<std::thread> threads;
        for (unsigned k = 0; k < jobs_; ++k) threads.emplace_back([this] { work(); });
        std::exception_ptr failure;
        try {
            feed();
        } catch (...) {
            failure = std::current_exception();
        }
        bool drop = failure != nullptr || ended();
        if (drop) to_end_ = true;
        tasks_.close(drop);
        for (std::thread& t : threads) t.join();
        if (!failure) try {
                collect(0);
                keep(true);
            } catch (...) {
                failure = std::current_exception();
            }
        try {
            data_.release(id_, owner_);
        } catch (const StoreError&) {
            // they come free when the lease is over
        }
        if (failure) std::rethrow_exception(failure);
        finish();
        return summary();
    }

private:
    bool ended() const { return options_.interrupt != nullptr && options_.interrupt->load(std::memory_order_relaxed); }
    static double since(Clock::time_point t) { return std::chrono::duration<double>(Clock::now() - t).count(); }

    void work()
    {
        CaseRunner runner(study_, options_.limit, &to_end_, owner_.substr(0, owner_.rfind(':')));
        while (auto task = tasks_.take()) {
            if (to_end_) break;
            auto i = static_cast<std::size_t>(*task);
            std::optional<StudyRow> row;
            try {
                row = runner.run(i, study_.keep.kind == KeepRecordings::Kind::all ? recording_file(i) : "");
                if (row && study_.keep.kind == KeepRecordings::Kind::failing && is_failing(study_, *row)) row = runner.run(i, recording_file(i));
            } catch (const std::exception& error) {  // what is a fault of this program: told as the result of this run
                row = StudyRow{};
                row->run = *task;
                row->status = "failed";
                row->id = "fault";
                row->reason = error.what();
                row->values.assign(study_.columns.size(), std::nan(""));
            }
            if (!row) break;
            results_.put(std::move(*row));
        }
    }

    // --- recordings
    fs::path folder() const
    {
        if (!options_.recordings.empty() && options_.recordings != "database") return options_.recordings;
        if (store_.is_shared()) return fs::path("recordings") / fmt::format("{}-{}", study_.name, id_);
        return fs::path(store_.where()).replace_extension("recordings") / fmt::format("{}-{}", study_.name, id_);
    }
    std::string recording_file(std::size_t run) const
    {
        fs::path to = options_.recordings == "database" ? passing_->path() : folder();
        std::error_code error;
        fs::create_directories(to, error);
        return (to / fmt::format("{}.h5", run)).string();
    }

    // --- claiming
    void take_from_the_dead()
    {
        for (const std::string& owner : data_.owners(id_))
            if (is_dead_here(owner)) data_.release(id_, owner);
    }

    std::int64_t batch() const
    {
        // before anything is known few, then what lasts for kBatch seconds
        if (n_here_ == 0 || run_seconds_ <= 0) return std::max<std::int64_t>(1, jobs_);
        double each = run_seconds_ / static_cast<double>(n_here_);
        return std::clamp(static_cast<std::int64_t>(kBatch * jobs_ / each), std::int64_t{1}, kMostClaimed);
    }

    // Claims and hands out until nothing is left, keeping what comes back.
    void feed()
    {
        bool nothing = false;
        auto looked = Clock::now();
        while (!ended()) {
            if (tasks_.size() < 2 * jobs_ && (!nothing || since(looked) > 0.5)) {
                nothing = !patiently([&] { return claim_more(); });
                looked = Clock::now();
            }
            if (nothing && std::all_of(open_.begin(), open_.end(), [](const Open& o) { return o.left == 0; })) {
                // others may be at work on the rest: if one of them dies, its runs are taken over
                keep(true);
                if (patiently([&] { return store_.study(id_).complete(); })) break;
            }
            collect(nothing ? 0.1 : 0.02);
            keep(false);
            tell();
        }
    }

    bool claim_more()
    {
        auto claim = data_.claim(id_, owner_, jobs_, batch(), kLease);
        if (!claim) return false;
        std::vector<std::int64_t> done = data_.done_within(id_, *claim);
        std::set<std::int64_t> there(done.begin(), done.end());
        Open open{*claim, 0};
        for (std::int64_t r = claim->first; r < claim->first + claim->n; ++r)
            if (!there.contains(r)) {
                ++open.left;
                tasks_.put(r);
            }
        open_.push_back(open);
        return true;
    }

    // --- keeping
    void collect(double wait)
    {
        for (StudyRow& row : results_.take_all(wait)) {
            if (!row.recording.empty() && options_.recordings == "database") to_store_.emplace_back(row.run, row.recording);
            ++n_here_;
            if (row.status != "done") ++n_failed_here_;
            run_seconds_ += row.seconds;
            for (Open& o : open_)
                if (row.run >= o.claim.first && row.run < o.claim.first + o.claim.n) --o.left;
            waiting_.push_back(std::move(row));
        }
    }

    void keep(bool now)
    {
        bool over = std::any_of(open_.begin(), open_.end(), [](const Open& o) { return o.left == 0; });
        // a store that many write to answers slowly: then more goes in at once
        double every = std::max(kKeepEvery, std::min(kHeartbeat, kKeepShare * keeping_));
        bool due = !waiting_.empty() && (now || since(last_kept_) > every || waiting_.size() >= kKeepAtMost);
        if (!due && !(over && now) && since(last_kept_) < kHeartbeat) return;
        std::vector<Claim> finished;
        for (const Open& o : open_)
            if (o.left == 0) finished.push_back(o.claim);
        auto began = Clock::now();
        patiently([&] {
            data_.keep(id_, owner_, waiting_, finished, kLease);
            return true;
        });
        keeping_ = since(began);
        std::erase_if(open_, [](const Open& o) { return o.left == 0; });
        waiting_.clear();
        for (const auto& [run, file] : to_store_) {
            patiently([&, r = run, f = file] {
                data_.keep_recording(id_, r, f);
                return true;
            });
            std::error_code error;
            fs::remove(file, error);
        }
        to_store_.clear();
        last_kept_ = Clock::now();
    }

    // A database that goes away for some time is waited for; results stay here meanwhile, and runs go on.
    template <typename Work>
    bool patiently(const Work& work)
    {
        auto began = Clock::now();
        for (;;) {
            try {
                return work();
            } catch (const StoreError& error) {
                bool passes = error.id() == "store-unreachable" || (error.id() == "store-busy" && store_.is_shared());
                if (!passes || since(began) > kPatience || ended()) throw;
                if (notes_.empty()) notes_.push_back("the database was away for some time; nothing was lost");
            }
            std::this_thread::sleep_for(std::chrono::milliseconds(500));
            try {
                data_.db->reconnect();
            } catch (const StoreError& error) {
                if (error.id() != "store-unreachable") {
                    if (since(began) > kPatience) throw;  // a server that is starting refuses at first
                }
            }
        }
    }

    // --- telling
    void tell()
    {
        if (!options_.progress || since(last_told_) < 0.25) return;
        last_told_ = Clock::now();
        if (store_.is_shared() && since(last_looked_) > 1) {
            try {
                record_ = store_.study(id_);
                last_looked_ = Clock::now();
            } catch (const StoreError&) {
                // told when it is needed
            }
        }
        StudyOptions::Progress p;
        p.all = study_.n_runs;
        std::size_t known = static_cast<std::size_t>(store_.is_shared() ? record_.n_done : done_before_ + static_cast<std::int64_t>(n_here_));
        p.done = std::min(known, p.all);
        p.failed = static_cast<std::size_t>(store_.is_shared() ? record_.n_failed : failed_before_ + static_cast<std::int64_t>(n_failed_here_));
        double seconds = since(begun_), gained = static_cast<double>(known) - static_cast<double>(done_before_);
        p.seconds_left = gained > 0 ? seconds / gained * static_cast<double>(p.all - p.done) : std::nan("");
        options_.progress(p);
    }

    // The best ones are known when all are there: they are run once more, with a recording.
    void finish()
    {
        if (study_.keep.kind != KeepRecordings::Kind::best || ended()) return;
        StudyRecord now = store_.study(id_);
        if (!now.complete()) return;
        StudyQuery query;
        query.sort = now.columns[study_.keep_by].name;
        query.descending = study_.keep.most;
        query.most = static_cast<std::int64_t>(study_.keep.count);
        std::vector<StudyRow> best = store_.rows(now, query);
        std::erase_if(best, [&](const StudyRow& r) { return !r.recording.empty() || std::isnan(r.values[study_.keep_by]); });
        std::mutex storing;
        parallel_for(best.size(), options_.jobs, [&](std::size_t k) {
            CaseRunner runner(study_, {}, options_.interrupt, owner_);
            auto i = static_cast<std::size_t>(best[k].run);
            auto row = runner.run(i, recording_file(i));
            if (!row || row->recording.empty()) return;
            std::lock_guard lock(storing);
            if (options_.recordings == "database") {
                data_.keep_recording(id_, best[k].run, row->recording);
                std::error_code error;
                fs::remove(row->recording, error);
            } else {
                data_.set_recording(id_, best[k].run, row->recording);
            }
        });
    }

    StudySummary summary()
    {
        StudyRecord now = store_.study(id_);
        StudySummary s;
        s.id = id_;
        s.all = static_cast<std::size_t>(now.n_runs), s.done = static_cast<std::size_t>(now.n_done), s.failed = static_cast<std::size_t>(now.n_failed);
        s.here = n_here_;
        s.complete = now.complete();
        s.wall_seconds = since(begun_);
        s.run_seconds = run_seconds_;
        s.jobs = jobs_;
        s.notes = notes_;
        return s;
    }

    struct Open {
        Claim claim;
        std::int64_t left = 0;
    };
    const StudyData& study_;
    Store& store_;
    StoreData& data_;
    std::int64_t id_;
    const StudyOptions& options_;
    std::string owner_;
    unsigned jobs_;
    std::atomic<bool> to_end_{false};
    Queue<std::int64_t> tasks_;
    Queue<StudyRow> results_;
    std::vector<Open> open_;
    std::vector<StudyRow> waiting_;
    std::vector<std::pair<std::int64_t, std::string>> to_store_;
    std::optional<OwnFolder> passing_;  ///< recordings on their way into the database
    std::vector<std::string> notes_;
    StudyRecord record_;
    std::int64_t done_before_ = 0, failed_before_ = 0;
    std::size_t n_here_ = 0, n_failed_here_ = 0;
    double run_seconds_ = 0, keeping_ = 0;  ///< s that the last transaction took
    Clock::time_point begun_, last_kept_, last_told_, last_looked_;
};

const char* word_of(TakeItem::Kind kind)
{
    static constexpr const char* kWords[] = {"all", "one_at_a_time", "sobol", "latin", "random", "for_sobol", "for_morris", "rows"};
    return kWords[static_cast<std::size_t>(kind)];
}

std::string settings_as_json(const StudyData& study)
{
    nlohmann::json set = nlohmann::json::array();
    for (const auto& [path, value] : study.set) set.push_back({path, value});
    return nlohmann::json{{"set", set}}.dump();
}

std::string fingerprint_of(const StudyData& study)
{
    return fmt::format("{}|{}|{}|{}", study.name, study.text_hash, settings_as_json(study), program_version());
}

}  // namespace

std::string StudySummary::one_line() const
{
    std::string out = complete ? fmt::format("done: {} runs", all) : fmt::format("not complete: {} of {} runs", done, all);
    if (failed > 0) out += fmt::format(", {} of them failed", failed);
    if (here > 0) out += fmt::format("; {} here in {:.3g} s by {} thread{}", here, wall_seconds, jobs, jobs == 1 ? "" : "s");
    if (here == 0 && wall_seconds > 1) out += fmt::format("; {:.3g} s", wall_seconds);
    return out;
}

StudySummary run_study(const Study& study, Store& store, const StudyOptions& options)
{
    const StudyData& data = study.data();
    std::int64_t id = 0;
    std::string fingerprint = fingerprint_of(data);
    if (options.resume) {
        id = store.data().unfinished(fingerprint);
        if (id == 0) {
            auto same = store.studies(data.name);
            bool open = std::any_of(same.begin(), same.end(), [](const StudyRecord& s) { return !s.complete(); });
            throw UsageError(
                same.empty() ? fmt::format("store '{}' has no study '{}' to go on with", store.where(), data.name)
                : open       ? fmt::format(
                                   "the texts or settings of study '{}' have changed since it was begun: leave --resume out, and it begins anew beside the old one",
                                   data.name)
                       : fmt::format("study '{}' is complete: netloop results shows it; without --resume it is run anew", data.name));
        }
    } else {
        StudyRecord record;
        record.name = data.name;
        record.system = data.system;
        record.version = program_version();
        record.plan = study.plan();
        record.text = data.text;
        record.texts = data.text_hash;
        record.take = word_of(data.take.kind);
        record.base = data.take.kind == TakeItem::Kind::all ? static_cast<std::int64_t>(data.design->draws()) : static_cast<std::int64_t>(data.take.count);
        record.n_runs = static_cast<std::int64_t>(data.n_runs);
        record.columns = data.columns;
        id = store.data().add_study(record, data.texts, settings_as_json(data), fingerprint);
    }
    if (options.only_register) {
        StudyRecord now = store.study(id);
        StudySummary s;
        s.id = id;
        s.all = static_cast<std::size_t>(now.n_runs), s.done = static_cast<std::size_t>(now.n_done), s.failed = static_cast<std::size_t>(now.n_failed);
        s.complete = now.complete();
        return s;
    }
    return StudyWork(data, store, id, options).run();
}

RunTimes time_of_runs(const Study& study, std::size_t n, const std::atomic<bool>* interrupt)
{
    RunTimes times;
    CaseRunner runner(study.data(), {}, interrupt, "");
    std::size_t all = study.n_runs(), wanted = std::min(n, all);
    for (std::size_t k = 0; k < wanted; ++k) {
        std::size_t i = k * (all - 1) / std::max<std::size_t>(1, wanted - 1);
        study.data().structure_at(study.data().point(i));  // machines are compiled once each, whatever the number of runs
        auto begun = Clock::now();
        if (!runner.run(i)) return times;
        times.seconds_each += std::chrono::duration<double>(Clock::now() - begun).count();
        ++times.n;
    }
    if (times.n > 0) times.seconds_each /= static_cast<double>(times.n);
    return times;
}

Study stored_study(Store& store, std::int64_t id)
{
    StudyRecord record = store.study(id);
    Library library = Library::standard();
    library.load_recorded(store.texts(record));
    std::vector<std::pair<std::string, std::string>> set;
    try {
        const nlohmann::json settings = nlohmann::json::parse(store.data().settings_of(id));
        for (const auto& pair : settings.at("set")) set.emplace_back(pair.at(0), pair.at(1));
    } catch (const nlohmann::json::exception&) {
        throw StoreError("store-damaged", fmt::format("the settings of study {} cannot be read", id));
    }
    return Study(library, record.name, set);
}

std::vector<StudySummary> work_on(Store& store, std::int64_t only, const StudyOptions& options)
{
    std::vector<StudySummary> done;
    std::set<std::int64_t> seen;
    for (;;) {
        std::int64_t next = 0;
        for (const StudyRecord& s : store.studies())
            if (!s.complete() && !seen.contains(s.id) && (only == 0 || s.id == only) && next == 0) next = s.id;
        if (next == 0 || (options.interrupt != nullptr && options.interrupt->load())) return done;
        seen.insert(next);
        StudyRecord record = store.study(next);
        if (record.version != program_version()) {
            StudySummary s;
            s.id = next;
            s.notes.push_back(
                fmt::format("study {} was put in by netloop {}, this is {}: left to those of its version", next, record.version, program_version()));
            done.push_back(s);
            continue;
        }
        Study study = stored_study(store, next);
        done.push_back(StudyWork(study.data(), store, next, options).run());
    }
}

RerunResult rerun(Store& store, std::int64_t id, std::int64_t run, const std::string& out)
{
    StudyRecord record = store.study(id);
    StudyQuery query;
    query.run = run;
    std::vector<StudyRow> rows = store.rows(record, query);
    if (run < 0 || run >= record.n_runs) throw UsageError(fmt::format("study {} has runs 0 to {}, none of number {}", id, record.n_runs - 1, run));
    if (rows.empty()) throw UsageError(fmt::format("run {} of study {} is not done yet", run, id));
    Study study = stored_study(store, id);
    CaseRunner runner(study.data(), {}, interrupt_flag(), "");
    auto row = runner.run(static_cast<std::size_t>(run), out);
    if (!row) throw Interrupted("interrupted");
    RerunResult result{*row, rows[0], true, record.version, runner.summary()};
    auto bits_equal = [](double a, double b) { return a == b ? std::signbit(a) == std::signbit(b) : std::isnan(a) && std::isnan(b); };
    result.same = row->status == rows[0].status && row->values.size() == rows[0].values.size() &&
                  std::equal(row->values.begin(), row->values.end(), rows[0].values.begin(), bits_equal);
    return result;
}

}  // namespace netloop
