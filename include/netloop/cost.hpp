// SPDX-License-Identifier: Apache-2.0
// What a run cost: how long its steps were, and what kept them from being longer.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace netloop {

struct EventRecord;

/// Kept by every run with variable steps. Of the steps that the error test bounds every eighth is looked at (of the first 500 each), and counts for eight.
struct Cost {
    /// One thing that bounded steps.
    struct Limit {
        std::string what;   ///< "left.head_volume.p"; "a signal of time"; for an event its condition or block
        std::string part;   ///< path of the instance that holds it; empty: the system
        std::string place;  ///< "file:line", or empty
        std::string why;    ///< "accuracy", "convergence", "event", "clock", "signal", "table", "delay", "end of a stretch"
        double steps = 0;
    };
    /// Consecutive steps.
    struct Stretch {
        double from = 0, to = 0;  ///< s
        double steps = 0;
        double shortest = 0, longest = 0;  ///< of them, s
        std::uint32_t limit = 0;           ///< what bounded most of them, into `limits`
    };
    /// What Newton's iteration had most to do with in steps whose equations took more than one correction: the equation that was farthest from being met behind
    /// the first one, by the change of a single unknown that would meet it, in terms of the tolerance. Where the matrix was made for another length of step, no
    /// equation is to blame, and an entry without a place says so. Of the first 64 steps each is looked at, then every eighth, which counts for eight.
    struct Equation {
        std::string text;   ///< "in 'pump': q = ..."
        std::string part;   ///< path of the instance that states it; empty: the system
        std::string place;  ///< "file:line", or empty
        double steps = 0;   ///< in which it was the one
        double corrections = 0;
    };
    double steps = 0;
    std::vector<Equation> equations;  ///< most corrections first
    std::vector<Limit> limits;        ///< most steps first
    std::vector<Stretch> stretches;   ///< in the order of time, at most 512
    /// Steps by part, most first: path and steps; the path "" is the system itself and what belongs to no part.
    std::vector<std::pair<std::string, double>> parts() const;
    /// The dearest three in words: "62 % of the steps by left.head_volume.p, 11 % by ...". Empty for a run without steps.
    std::string one_line() const;
    /// A table: steps and share, why, what, where; at most `most` lines.
    std::string text(std::size_t most = 20) const;
    /// The same with what happened in the run: how often, and its share of the time of computing; events that bounded no step stand behind those that did.
    std::string text(const EventRecord& events, std::size_t most = 20) const;
};

}  // namespace netloop
