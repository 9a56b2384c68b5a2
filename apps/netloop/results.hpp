// SPDX-License-Identifier: Apache-2.0
// Tables of a study's runs, for `study` and `results`.
#pragma once

#include <netloop/netloop.hpp>

#include <string>
#include <vector>

/// The rows as a table for a terminal; columns that say the same in every row stand once, above it.
void show_rows(const netloop::StudyRecord& study, const std::vector<netloop::StudyRow>& rows);
/// The first few by the first thing that is collected.
void show_best(netloop::Store& store, const netloop::StudyRecord& study);
void write_study_report(netloop::Store& store, const netloop::StudyRecord& study, const std::string& out);
