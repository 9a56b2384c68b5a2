// SPDX-License-Identifier: Apache-2.0
// Where studies are kept: an SQLite file, or a PostgreSQL database that a team shares.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "netloop/error.hpp"
#include "netloop/recording.hpp"

namespace netloop {

/// A store that cannot be reached, read or written. The ids are "store-unreachable", "store-refused", "store-full", "store-newer", "store-damaged",
/// "store-busy".
class StoreError : public Error {
public:
    using Error::Error;
};

/// One thing that a study varies or collects.
struct StudyColumn {
    enum class Kind { varied, uncertain, measure, demand } kind = Kind::varied;
    std::string name{};                 ///< "pump.displacement", "lift_time", or what a demand says
    std::string unit{};                 ///< to show numbers in: "bar"; of a demand "bool"
    double scale = 1, offset = 0;       ///< SI = display * scale + offset
    std::vector<std::string> levels{};  ///< of a choice of parts, options or scenarios: words; values are their numbers from 0
    std::vector<std::string> titles{};  ///< of the same: what a catalogue says of them; may be empty
    /// "10.5 bar", "p90", "holds", "-" for no value.
    std::string shown(double value) const;
};

/// A study as the store has it.
struct StudyRecord {
    std::int64_t id = 0;
    std::string name, system, author, created, version;  ///< created: ISO 8601, UTC; version: of the program
    std::string plan, text;                              ///< in words; its `##` text
    std::string texts;                                   ///< the hash of the texts that it was made from
    std::string take;                                    ///< "all", "one_at_a_time", "sobol", "latin", "random", "for_sobol", "for_morris", "rows"
    std::int64_t base = 0;                               ///< points, trajectories or draws of that
    std::int64_t n_runs = 0, n_done = 0, n_failed = 0;
    std::vector<StudyColumn> columns;
    bool complete() const { return n_done == n_runs; }
};

/// One run of a study. Its columns are those of the study.
struct StudyRow {
    std::int64_t run = 0;
    std::string status;      ///< "done", "failed", "limit"
    std::string id, reason;  ///< of a run that failed: the slug, and the first line of what it said
    double seconds = 0;      ///< that it took
    std::int64_t steps = 0;
    std::string worker, recording;
    std::vector<double> values;  ///< SI, or numbers of levels; NaN: none
};

/// Which rows are wanted.
struct StudyQuery {
    std::string sort{};  ///< a column's name, "seconds" or "run"; empty: by run
    bool descending = false;
    std::int64_t most = -1;  ///< rows; -1: all
    std::string where{};     ///< an expression over columns, with units: "peak < 210 bar and pump is p90"
    std::optional<std::int64_t> run{};
};

/// A part of a catalogue that somebody published in a store. Never overwritten: a change is a new version.
struct StoredEntry {
    std::string catalogue, name, title, kind, base;
    std::int64_t version = 1;
    std::string author, created;
    std::string text;  ///< the entry as a line of a catalogue
};

struct StoreData;

/// One connection to a store. Not for several threads at once; any number of connections, processes and machines may use one store.
class Store {
public:
    /// "runs.studies.sqlite" (made if there is none), or "postgresql://user@host:port/database" (tables are made if there are none; a password may stand in the
    /// text, in PGPASSWORD or in ~/.pgpass). One of an older form is brought up to date. Throws StoreError: it is newer than this program, cannot be reached,
    /// the password is wrong; hint() says what would mend it.
    static Store open(const std::string& where);
    /// The same, but a file that is not there is an error.
    static Store open_existing(const std::string& where);

    /// Where it is, without a password.
    const std::string& where() const;
    bool is_shared() const;  ///< a PostgreSQL database
    /// Studies, oldest first; of one name if one is given.
    std::vector<StudyRecord> studies(const std::string& name = {});
    /// By number; StoreError if there is none.
    StudyRecord study(std::int64_t id);
    /// Rows of a study. Without `where` the database itself sorts and counts: of a million rows the best twenty come within a second. Throws UsageError for a
    /// column that there is not, or units that do not fit.
    std::vector<StudyRow> rows(const StudyRecord& study, const StudyQuery& query = {});
    /// The texts and tables of a study.
    std::vector<ModelText> texts(const StudyRecord& study);
    /// A recording that is kept in the database itself, written to a file. Throws StoreError if there is none.
    void fetch_recording(std::int64_t study, std::int64_t run, const std::string& out);

    // --- catalogues that a team shares
    /// A new version if anything has changed; the same one otherwise. Gives the version.
    std::int64_t publish(const StoredEntry& entry);
    /// Newest versions, or all of them.
    std::vector<StoredEntry> entries(const std::string& catalogue = {}, bool all_versions = false);

    // --- keeping house
    /// Removes a study with its runs and recordings, and texts that no study uses any more.
    void remove(std::int64_t study);
    /// What does not fit together, a line each; empty: sound.
    std::vector<std::string> check();

    /// For this library's own folders.
    StoreData& data() { return *data_; }

private:
    explicit Store(std::shared_ptr<StoreData> data) : data_(std::move(data)) {}
    std::shared_ptr<StoreData> data_;
};

}  // namespace netloop
