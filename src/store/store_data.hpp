// SPDX-License-Identifier: Apache-2.0
// What stands behind a Store, and what only those who run studies ask of it: registering, claiming runs, keeping results.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "netloop/store.hpp"
#include "store/database.hpp"

namespace netloop {

/// Runs [first, first + n) that somebody has claimed.
struct Claim {
    std::int64_t first = 0, n = 0;
};

struct StoreData {
    std::string where;
    std::unique_ptr<Database> db;

    /// A new study with its texts. Gives its number.
    std::int64_t add_study(const StudyRecord& study, const std::vector<ModelText>& texts, const std::string& settings, const std::string& fingerprint);
    /// The newest study of this fingerprint that is not complete; 0: none.
    std::int64_t unfinished(const std::string& fingerprint);
    std::string settings_of(std::int64_t study);

    /// The next runs that nobody works on: those of a worker whose lease is over go first; of fresh ones from `at_least` to `at_most`, a share of what is left.
    /// None: all are done or being worked on.
    std::optional<Claim> claim(std::int64_t study, const std::string& owner, std::int64_t at_least, std::int64_t at_most, double lease_s);
    /// Keeps results, extends this owner's leases, and gives back the claims that are finished: all or nothing. A run that is there already is left as it is.
    void keep(std::int64_t study, const std::string& owner, const std::vector<StudyRow>& rows, const std::vector<Claim>& finished, double lease_s);
    /// Gives back all that an owner has claimed.
    void release(std::int64_t study, const std::string& owner);
    std::vector<std::string> owners(std::int64_t study);
    /// Runs within a claim that have a result.
    std::vector<std::int64_t> done_within(std::int64_t study, const Claim& claim);
    void set_recording(std::int64_t study, std::int64_t run, const std::string& recording);
    /// A file into the store itself.
    void keep_recording(std::int64_t study, std::int64_t run, const std::string& file);
};

/// Number of the study in question: a row of the table of studies, its columns read.
StudyRecord record_of(const DbRow& row);
std::string columns_as_json(const std::vector<StudyColumn>& columns);

/// 16 hexadecimal digits of a text (FNV-1a, 64 bits); a store that has another text of the same refuses it.
std::string hash_of(const std::string& text);

}  // namespace netloop
