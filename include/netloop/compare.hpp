// SPDX-License-Identifier: Apache-2.0
// Comparing two recordings: what differs most, from when on, and by how much.
#pragma once

#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

struct CompareOptions {
    /// Relative: the allowed difference is this share of the larger recording's swing of the quantity (largest less smallest value).
    double tolerance = 1e-3;
    /// Absolute, by unit: {"bar", 0.5} allows 0.5 bar for all quantities of that dimension, whatever `tolerance` says.
    std::vector<std::pair<std::string, double>> by_unit{};
    std::vector<std::string> keep{};  ///< only these: paths, or patterns with '*'; empty: all that both have
    /// Changes that come at another moment are the same up to this shift in time, s: within it the nearest value counts.
    double shift = 0;
    /// Events of one kind (part and text) that both have are paired in their order, and the times of the second recording between two pairs are stretched onto
    /// those of the first before values are compared: a switch that comes 3 ms later is one difference of 3 ms, and none of all quantities that it moves.
    /// False: all times are taken as they stand. A pair farther apart than `tolerance` of the time that both cover counts as a difference, unless
    /// `keep` asks for some quantities only: then these alone decide.
    bool match_events = true;
    /// Recordings that cover different times, or whose runs did not come to their end, are compared over the time that they share. Without it they differ.
    bool shared_time = false;
};

/// One quantity in both.
struct Difference {
    std::string name, unit;
    double largest = 0;  ///< SI: the largest difference
    double at = 0;       ///< s: when it is that large
    double first = 0;    ///< s: when it first passes what is allowed; NaN: never
    double allowed = 0;  ///< SI
    double share = 0;    ///< largest over the swing; infinite if one of both stands still
    double final = 0;    ///< SI: the difference at the end
    double scale = 1;    ///< SI = display * scale
    /// Within what is allowed.
    bool within() const { return !(largest > allowed); }
};

/// A number that both runs have, in its display unit; NaN: one has none.
struct SideBySide {
    std::string name, unit;
    double first = 0, second = 0;
};

/// Events of one kind that come at other times, or more often in one of both.
struct EventDifference {
    std::string text, part;
    std::size_t count_first = 0, count_second = 0;
    double apart = 0;  ///< s: the farthest pair
    double at = 0;     ///< s: when, in the first recording
    bool within = true;
};

struct Comparison {
    std::vector<Difference> differences;  ///< those most beyond what is allowed first
    std::vector<EventDifference> events;  ///< those that are not the same, farthest apart first
    std::size_t events_paired = 0;
    std::vector<SideBySide> measures;  ///< all that one of both has
    std::vector<SideBySide> params;    ///< those that differ
    std::vector<SideBySide> effort;    ///< steps, events and seconds of computing, where the recordings say
    std::vector<std::string> only_first, only_second;
    double from = 0, to = 0;                ///< s: the time that both cover
    std::vector<std::string> not_compared;  ///< why the recordings as wholes are not the same: an incomplete one, times that one alone covers
    bool shared_time = false;               ///< not_compared was expected
    /// All differences and events are within what is allowed, and the recordings cover the same, or were not expected to.
    bool same() const;
    /// As `netloop compare` prints it, with `most` lines of each table.
    std::string text(std::size_t most = 20) const;
};

/// Compares column by column at the times of both, values between rows by straight lines; at an event both sides are held against both sides.
/// Cost: rows times columns. Throws RecordingError if they share no time or no quantity, UsageError for a unit that is none.
Comparison compare(const Recording& first, const Recording& second, const CompareOptions& options = {});

}  // namespace netloop
