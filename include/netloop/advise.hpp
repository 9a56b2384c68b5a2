// SPDX-License-Identifier: Apache-2.0
// What to change so that a run gets faster, or bears longer fixed steps: candidates from what limited its steps and from its modes, each tried, measured and
// priced.
#pragma once

#include <atomic>
#include <cstddef>
#include <functional>
#include <string>
#include <vector>

#include "netloop/run.hpp"

namespace netloop {

struct AdviceRequest {
    /// What may differ by how much from the run as it is: a recorded quantity or a measure of the scenario, SI (of a difference). A change that goes beyond is
    /// refused. Without any, the measures of the scenario are kept within one percent, and its demands as they were.
    struct Keep {
        std::string name;
        double within = 0;
    };
    std::vector<Keep> keep{};
    std::size_t runs = 40;  ///< at most so many, the first one included
    std::size_t jobs = 1;   ///< at a time
    /// Empty: the score is the time of a run. A method of FixedStepOptions: the score is its largest stable step over the run, for a machine that has to keep
    /// time. For "euler" and "rk4" that is what the eigenvalues along the run and its clocks allow; for the others it is found by runs in fixed steps.
    std::string fixed_method{};
    /// Of each run: stop, tolerance, method. Files are not written.
    RunOptions options{};
    /// Brings the values of each run to what they are to be besides the scenario's; the run is one of the system that is given.
    std::function<void(Run&, const CompiledSystem&)> prepare{};
    /// Called from one thread at a time: runs made, and at most.
    std::function<void(std::size_t, std::size_t)> progress{};
    const std::atomic<bool>* interrupt = nullptr;  ///< what was tried until then is given
};

/// Nothing is changed by it. Advice that was not measured is not given.
struct Advice {
    struct Change {
        /// Path of a param; of an option; or of a part in whose place another component stands.
        std::string param, unit;
        double from = 0, to = 0;  ///< SI
        double scale = 1, offset = 0;
        /// Of an option its values, of a part its kinds, the second with its values: "hydraulics.ReliefValve(cracking = 120 bar)". Empty for a param.
        std::string from_text{}, to_text{};
        bool is_part = false;
        /// Whether the system is compiled anew with it: an option, or another component.
        bool is_structural() const { return !to_text.empty(); }
        std::string reason{};  ///< "moves the mode of 138 Hz of block.content, which limited 45 % of the steps"
        /// "block.volume: 4 L -> 12 L".
        std::string text() const;
    };
    /// The largest difference of one thing to the run as it is.
    struct Price {
        std::string what, unit;
        double difference = 0;  ///< SI
        double share = 0;       ///< of the range, or of the value of a measure
        double at = 0;          ///< s; NaN for a measure
        double scale = 1;
        /// "peak differs by 2.3 bar", "leaf.angle differs by 0.03 deg at 20.4 s".
        std::string text() const;
    };
    struct Trial {
        std::vector<Change> changes;  ///< what was tried in this run last; before it what had been taken by then
        std::size_t tried = 1;        ///< of them, the last ones: several where parts of one kind limit fixed steps alike
        std::size_t round = 1;        ///< what limits a run is looked at anew with the changes that were taken before
        double before = 1;            ///< speed_up of what had been taken before this round
        double steps = 0, seconds = 0;
        double largest_step = 0;    ///< s, stable, of AdviceRequest::fixed_method; 0: not asked for, or none
        double speed_up = 1;        ///< seconds of the run as it is over those of this one, the best of two runs each where they are short; or steps' lengths
        std::vector<Price> prices;  ///< of what is to be kept, then the quantities that differ most
        std::string refused;        ///< why it is not to be taken: what goes beyond its bound, or how the run failed; empty: it may
    };
    Trial as_it_is;             ///< no changes
    std::vector<Trial> trials;  ///< by rounds; in each one more change, fastest first, refused ones last
    Trial combined;             ///< those that go together, in the order in which they were taken; no changes: none did
    /// Of fixed steps: what is to be said of a run in steps nearly as long as the combination allows: "4.1 ms: a run in such steps comes to its end"; empty:
    /// nothing. Where it does not, no scenario is given.
    std::string confirmed;
    std::string method;    ///< AdviceRequest::fixed_method
    std::size_t runs = 0;  ///< made
    std::string scenario;  ///< to paste: "scenario fast from storm_lift { set ... }"; empty if nothing helps
    /// As `netloop advise` prints it.
    std::string text() const;
    /// All of it as JSON.
    std::string json() const;
};

/// Makes the runs. Throws what the run as it is throws, and UsageError for a method that there is not; a run that fails with a change is a trial that is
/// refused. Cost: `runs` runs and some linear models; with a fixed method some sixty linear models, or ten runs in fixed steps, for each run.
Advice advise(const CompiledSystem& system, const AdviceRequest& request = {});
/// The same for what is compiled by this: then options of the parts that limit (fewer cells, stops left out) are tried, too, and in the place of a part the
/// component that the text of its kind names with `Instead:`. Throws what compile() throws.
Advice advise(const Library& library, const CompileRequest& compiled, const AdviceRequest& request = {});

}  // namespace netloop
