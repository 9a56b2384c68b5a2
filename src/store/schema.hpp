// SPDX-License-Identifier: Apache-2.0
// The tables of a store, and how older ones are brought up to date. The same in both databases.
#pragma once

#include "store/database.hpp"

namespace netloop {

/// The form of the tables that this program writes.
int schema_version();
/// Makes what is missing, in one transaction. Throws StoreError for a store that is newer than this program.
void bring_up_to_date(Database& db, const std::string& told);
/// The same only up to a version: for tests of the way from there.
void bring_up_to(Database& db, const std::string& told, int version);

/// The table that holds the runs of a study: each has its own, with a column for each that the study has.
std::string runs_table(std::int64_t study);
void make_runs_table(Database& db, std::int64_t study, std::size_t n_columns);

}  // namespace netloop
