// SPDX-License-Identifier: Apache-2.0
// One system takes over from another when equations change in kind: what survives, and the jump that new constraints cause.
#pragma once

#include <optional>

#include "solve/start.hpp"

namespace netloop {

class VariantChange {
public:
    VariantChange(Evaluation& evaluation, ConsistentSolver& consistent, const SourceSet& sources);

    /// Whether there is more than one system.
    bool any() const { return e_.first_model()->family != nullptr; }
    /// The system that the switches ask for as modes and memories stand takes over, with the motion as it was; not yet consistent.
    /// Conditions whose values are driven over zero by the jump itself are turned instead (a diode that opens when an inductor is cut
    /// off), and nothing else is done: then the switches are to be looked at again. Throws NumericFailure where there is no such system,
    /// or where it holds a constraint that positions contradict.
    enum class Result { same, taken_over, turned };
    Result follow(State& s);
    /// For the start, before anything moves: takes the system as it is asked for. True if it is another one.
    bool take(State& s);
    /// For the start: another system, reached by turning one or two conditions that follow from the motion. False: all were tried.
    bool try_another();
    /// By its key and by the conditions that it goes along; null if there is none such.
    std::shared_ptr<const CompiledModel> system_of(const std::vector<char>& key, const std::vector<std::uint32_t>& slides);
    /// Goes on along a condition. False if there is no system for that.
    bool slide(State& s, std::uint32_t condition);
    /// Where a share has left 0 .. 1: on with the side that it has left to. True if one has.
    bool leave(State& s);

private:
    std::vector<char> wanted_key();
    std::shared_ptr<const CompiledModel> model_for(const std::vector<char>& key, double time);
    std::shared_ptr<const CompiledModel> family_get(const std::vector<char>& key, std::string& reason);
    std::vector<std::uint32_t> free_conditions() const;
    std::vector<double> first_modes_;  ///< of the free conditions, as the start first had them
    std::size_t tried_ = 0;
    bool give_way(const std::vector<char>& key);
    double present(QuantityId quantity, std::uint32_t order);
    void look_at(const State& s);
    bool jump(const CompiledModel& next, const State& s);
    void carry(State& s, const std::shared_ptr<const CompiledModel>& next);
    std::string keys_text(const std::vector<char>& key) const;

    Evaluation& e_;
    ConsistentSolver& consistent_;
    const SourceSet& sources_;
    // the motion in the system that is left
    std::vector<double> outputs_, slopes_;
    std::map<std::pair<QuantityId, std::uint32_t>, double> members_, jumps_;
};

}  // namespace netloop
