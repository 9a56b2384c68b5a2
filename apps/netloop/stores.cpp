// SPDX-License-Identifier: Apache-2.0
#include "stores.hpp"

#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>

std::string store_beside(const std::string& model)
{
    return std::filesystem::path(model).replace_extension("studies.sqlite").string();
}

std::string store_of_environment()
{
    const char* store = std::getenv("NETLOOP_STORE");
    return store != nullptr ? store : "";
}

netloop::Store open_store(const std::string& where)
{
    return netloop::Store::open_existing(where.ends_with(".loop") ? store_beside(where) : where);
}

netloop::StudyRecord study_in(netloop::Store& store, const std::string& which)
{
    auto all = store.studies();
    if (all.empty()) throw netloop::UsageError(fmt::format("store '{}' holds no study yet", store.where()));
    if (which.empty()) return all.back();
    bool number = which.find_first_not_of("0123456789") == std::string::npos;
    if (number) return store.study(std::strtoll(which.c_str(), nullptr, 10));
    std::string names;
    for (auto it = all.rbegin(); it != all.rend(); ++it) {
        if (it->name == which) return *it;
        if ((", " + names + ",").find(", " + it->name + ",") == std::string::npos) names += (names.empty() ? "" : ", ") + it->name;
    }
    throw netloop::UsageError(fmt::format("store '{}' holds no study '{}'; there are: {}", store.where(), which, names));
}

std::string duration_text(double seconds)
{
    if (std::isnan(seconds)) return "?";
    if (seconds < 10) return fmt::format("{:.1f} s", seconds);
    auto whole = static_cast<long>(std::lround(seconds));
    if (whole < 60) return fmt::format("{} s", whole);
    if (whole < 3600) return fmt::format("{}:{:02} min", whole / 60, whole % 60);
    return fmt::format("{}:{:02} h", whole / 3600, whole / 60 % 60);
}
