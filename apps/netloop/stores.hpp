// SPDX-License-Identifier: Apache-2.0
// What the commands on studies share: where a store is, which study is meant, times in words.
#pragma once

#include <netloop/netloop.hpp>

#include <string>

/// The store of a model's file stands beside it: drive.loop, drive.studies.sqlite.
std::string store_beside(const std::string& model);
/// The default of --store: NETLOOP_STORE of the environment, else empty.
std::string store_of_environment();
/// An existing store by its file, its address, or the model that it stands beside.
netloop::Store open_store(const std::string& where);
/// By name (the newest of it) or by number; empty: the newest of all. Throws netloop::UsageError.
netloop::StudyRecord study_in(netloop::Store& store, const std::string& which);
/// "45 s", "2:10 min", "3:05 h".
std::string duration_text(double seconds);
