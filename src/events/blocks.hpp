// SPDX-License-Identifier: Apache-2.0
// Blocks at work: what they set and say, in their order, each seeing what those before it have left.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "events/modes.hpp"

namespace netloop {

class Blocks {
public:
    Blocks(Evaluation& evaluation, const SourceSet& sources, std::function<void(State&)> settle);

    /// A moment begins: nothing is set yet, and previous() means the values at `s`.
    void begin_moment(const State& s);
    /// Runs blocks, in this order. The state is left as they set it, not yet consistent with the equations where equations() says so.
    void run(const std::vector<std::uint32_t>& list, State& s);
    /// Sets a memory as part of the moment, for what is no block.
    void set(std::uint32_t memory, double value, std::uint32_t by);

    bool equations() const { return equations_; }  ///< something was set that equations read, and they have not been solved with it yet
    void solved() { equations_ = false; }
    bool touched() const { return touched_; }  ///< something that equations read was set in this moment, solved or not
    const std::string& stop() const { return stop_; }
    const std::vector<std::string>& warnings() const { return warnings_; }

private:
    const CompiledModel& m() const { return e_.model(); }
    const EventPrograms& p() const { return e_.model().events; }
    void apply(std::uint32_t block, const std::vector<double>& values, State& s);
    void say(std::uint32_t block, const State& s);
    void claim(std::uint64_t what, std::uint32_t block, const std::string& name, const State& s);
    void meet_demands(State& s);
    std::string place(std::uint32_t block) const;
    std::string setting_name(std::uint32_t block, std::uint32_t setting) const;

    struct Demand {
        std::uint32_t block = 0, setting = 0;
        double value = 0;
    };
    Evaluation& e_;
    const SourceSet& sources_;
    std::function<void(State&)> settle_;
    std::map<std::uint64_t, std::uint32_t> set_by_;  ///< in this moment: memory, or state behind all memories
    std::vector<Demand> demands_;
    std::vector<std::uint32_t> written_;  ///< memories, by the batch under way
    bool equations_ = false, touched_ = false;
    std::string stop_;
    std::vector<std::string> warnings_;
    std::vector<std::size_t> said_;
};

}  // namespace netloop
