// SPDX-License-Identifier: Apache-2.0
// A run held against its model as written, point by point.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "netloop/verification.hpp"
#include "solve/start.hpp"
#include "verify/plain_values.hpp"

namespace netloop {

class Verifier {
public:
    /// `model`: the first system of the run. `by_tolerance`: the steps keep to the tolerance, so that slopes can be compared.
    Verifier(const CompiledModel& model, const SourceSet& sources, double tolerance, bool by_tolerance);

    /// Params: all but those given from outside must have the values that their expressions say.
    void params(const Evaluation& e, const std::vector<ParameterId>& given);
    /// The start as it was solved, before anything happens: inits. `demanded`: whether inits are demands here (not at a steady start, whose
    /// finds alone are, nor when the run goes on from a recording, which takes the place of both).
    enum class Inits { all, finds, none };
    void start(const State& s, Evaluation& e, Inits demanded);
    /// A row, a side of an event, or a point between; the outputs of the evaluation stand there.
    void point(const State& s, Evaluation& e);
    /// After point(), for one within a step of that length: what is integrated must have the rates that the equations say as its slopes. `near` gives
    /// the state at a time close by; `solve`, from given states, what else there is, and the evaluation then stands there.
    static constexpr double kNear = 1e-4, kFar = 1e-2;  ///< how close by, as shares of the step: of states, and of what follows from them
    struct Near {
        std::function<void(double time, State& s)> at;
        std::function<void(State& s)> solve;
    };
    void slopes(const State& s, Evaluation& e, double step, const Near& near);
    Verification result() const;
    /// The first equation or let of which a side has no value at a state, where the outputs of the evaluation stand; none if all have one.
    std::optional<Verification::Finding> without_value(const State& s, Evaluation& e);

private:
    using Kind = Verification::Finding::Kind;
    struct Worst {
        double share = -1, time = 0, left = 0, right = 0;
    };
    struct Item {
        Kind kind = Kind::equation;
        std::uint32_t index = 0;  ///< into what it is one of
        NodeId left = kNoNode, right = kNoNode;
        bool known = true;
        Worst worst;
    };
    struct Slope {
        std::uint32_t below = 0, rate = 0;  ///< leaves
        std::uint32_t member = kNoNode;     ///< of z of the present system, that `below` is up to its sign; kNoNode: none
        double sign = 1;
    };
    void take_leaves(const State& s, Evaluation& e);
    void compare(Item& item, double time, const Measured& left, const Measured& right);
    void keep_worst(Worst& worst, double share, double time, double left, double right) const;
    bool has_unknown(const Item& item) const;
    void ranges(double time);
    void find_members(const CompiledModel& present);
    std::vector<double> rates_moved(const State& s, Evaluation& e, const Near& near);
    Verification::Finding finding(const Item& item) const;

    const CompiledModel& m_;
    const FlatModel& flat_;
    const WrittenModel& written_;
    const SourceSet& sources_;
    double limit_;
    bool by_tolerance_;
    bool slides_ = false;  ///< at this point the run goes along a condition
    PlainValues values_;
    LeafValues leaves_;
    Evaluation* e_ = nullptr;
    std::vector<double> leaf_;       ///< values of the leaves at the point
    std::vector<double> leaf_size_;  ///< the largest seen of each, and at least its usual size
    std::vector<Item> equations_, lets_, inits_, ranges_, slopes_of_, params_;
    std::vector<std::uint32_t> let_output_;
    std::vector<Slope> slopes_;  ///< in the order of slopes_of_
    std::size_t points_ = 0, n_slopes_ = 0, n_looks_ = 0;
    const CompiledModel* members_of_ = nullptr;
    State near_;
};

}  // namespace netloop
