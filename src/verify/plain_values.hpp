// SPDX-License-Identifier: Apache-2.0
// A plain evaluator for expressions as written. It walks the nodes in their order and computes each by itself: nothing is lowered, merged,
// hoisted or solved, and no code is shared with the programs that a run evaluates.
#pragma once

#include <functional>
#include <vector>

#include "model/written.hpp"
#include "verify/measured.hpp"

namespace netloop {

/// What the leaves of an expression are at one moment.
struct LeafValues {
    std::function<Measured(QuantityId quantity, std::uint32_t order)> quantity;  ///< not a number: not known
    std::function<double(std::uint32_t parameter)> parameter;
    std::function<double(std::uint32_t memory)> memory;
    double time = 0;
};

class PlainValues {
public:
    /// Numbers that are exact but for rounding have this share of their size as their spread.
    static constexpr double kExact = 1e-6;

    /// For `roots`; `needs` as in WrittenModel. `closeness`: a condition nearer to its zero than this share of its spread may have turned or not.
    PlainValues(const Graph& graph, const std::vector<NodeId>& roots, const std::vector<std::uint32_t>& needs, double closeness);

    /// Computes all. Linear in the number of nodes.
    void at(const LeafValues& leaves);
    const Measured& operator()(NodeId root) const { return values_[slot_[root]]; }

    /// Where conditions below `roots` are about to turn (which side holds is not told by their values), goes through what they may be, one
    /// combination at a time, a few dozens at most: `look` is called after each and ends the search by saying true. The values of all roots are
    /// as before afterwards.
    bool with_turned_conditions(const std::vector<NodeId>& roots, const LeafValues& leaves, const std::function<bool()>& look);

private:
    struct Step {
        Node node;
        std::uint32_t a = 0, b = 0, c = 0;  ///< slots
        std::uint32_t series = 0;           ///< 1 + place in series_, for a node whose derivatives are needed; 0: none are
        double constant = 0;
    };
    void compute(std::uint32_t step, const LeafValues& leaves);
    Measured plain(const Step& s, std::uint32_t step, const LeafValues& leaves);
    Series series(const Step& s, std::uint32_t step, const LeafValues& leaves);
    /// A located condition or jump: its value, or what was chosen for it where it is about to turn.
    double located(std::uint32_t step, const Step& s, const Measured& a, const Measured& b);
    double choose(std::uint32_t step, std::initializer_list<double> may_be);
    Measured called(const Step& s);
    Series called_series(const Step& s);
    const Series& series_of(std::uint32_t slot) const { return series_[steps_[slot].series - 1]; }

    const Graph& graph_;
    double closeness_;
    std::vector<Step> steps_;
    std::vector<Measured> values_;
    std::vector<Series> series_;
    std::vector<std::uint32_t> slot_;                 ///< per node
    std::vector<std::vector<std::uint32_t>> listed_;  ///< of calls: slots of the arguments
    std::vector<std::uint32_t> list_of_;              ///< per step: into listed_
    std::vector<int> choice_;                         ///< per step: which of what it may be, -1: by its value
    std::vector<std::uint32_t> unsure_;               ///< steps met that may be more than one thing, while `collecting_`
    std::vector<std::uint32_t> n_choices_;
    bool collecting_ = false;
    std::vector<double> arguments_, scratch_;
    /// What a located comparison's sides differed by at the point before, and at this one: how fast they approach each other.
    struct Approach {
        double time_before = 0, before = 0, time = 0, now = 0;
        bool seen = false, known = false;  ///< this point; the one before too
    };
    std::vector<Approach> approach_;  ///< per step
    double time_ = 0;
};

}  // namespace netloop
