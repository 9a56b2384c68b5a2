// SPDX-License-Identifier: Apache-2.0
// Definitions to a compiled system.
#pragma once

#include <atomic>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "netloop/builder.hpp"
#include "netloop/library.hpp"

namespace netloop {

struct CompiledSystemData;

/// Which system and scenario to compile, and what is changed for it.
struct CompileRequest {
    std::string system{};    ///< name of a system; empty: that of the scenario, or the only one loaded
    std::string scenario{};  ///< name of a scenario; empty: the only one loaded, or none with `no_scenario`
    bool no_scenario = false;
    /// Values as text, as on the command line: {"relief.cracking", "160 bar"}. An option is fixed here; a param can be set later too.
    std::vector<std::pair<std::string, std::string>> set{};
    bool strict = false;  ///< quantities without a unit are errors
    /// Rates that runs shall be able to record, such as "leaf.angle'" (other names given here are ignored). What a scenario keeps is
    /// among them by itself.
    std::vector<std::string> rates{};
    /// Signals that linear models shall act on: inputs and outputs of parts that signal lines join, inputs of the system whose rates may enter. Runs are the
    /// same with them. Throws UsageError for one that is none.
    std::vector<std::string> linear_inputs{};
    /// Inputs of parts that are taken from what they are joined to, and become inputs of the system with the value 0: a machine without its controller. What
    /// they were joined to goes on beside them. Throws UsageError for what is no joined input.
    std::vector<std::string> from_outside{};
    const std::atomic<bool>* interrupt = nullptr;  ///< set from elsewhere (Ctrl-C): compile() throws Interrupted soon
};

/// A thing of one compiled system, looked up once by its path and then used without looking. Not to be used with another system.
template <typename What>
struct Handle {
    std::uint32_t number = 0xffffffffu;
    bool operator==(const Handle&) const = default;
};
using ParamId = Handle<struct ParamTag>;
using InputId = Handle<struct InputTag>;
/// Any quantity or let that a run computes.
using OutputId = Handle<struct OutputTag>;

/// An immutable system that any number of runs, on any threads, may share. It owns all that it was made of: what becomes of the library or the builder
/// behind it changes nothing. Cheap to copy: copies are the same system.
class CompiledSystem {
public:
    /// Of the system, and of the scenario it was compiled with; empty: none.
    const std::string& name() const;
    const std::string& scenario() const;
    /// Quantities that are integrated; those that are solved for by iteration beside them; equations of the flat model.
    std::size_t n_states() const;
    std::size_t n_iterates() const;
    std::size_t n_equations() const;
    /// The scenario's stop time in s, if it says one.
    std::optional<double> stop() const;
    /// Notes and warnings: unjoined ports, what the scenario says that has no effect yet.
    const std::vector<Diagnostic>& notes() const;
    /// The compile record: a line per pass with counts and times, then the blocks of equations with their iterates.
    std::string explain() const;
    /// Paths of all parameters, or of all quantities that can be recorded.
    std::vector<std::string> parameters() const;
    std::vector<std::string> quantities() const;

    /// The param of this path; an input of the system; a quantity or let. Throws UsageError with the nearest name. One search over all paths.
    ParamId param(const std::string& path) const;
    InputId input(const std::string& path) const;
    OutputId output(const std::string& path) const;
    /// The unit in which its declaration gives it, "1" for none.
    const std::string& unit(OutputId output) const;
    const std::string& unit(ParamId param) const;
    /// Of the user's texts and tables that it was compiled from: the same for the same texts in any process, whatever was set from outside. 16 hexadecimal
    /// digits.
    const std::string& text_hash() const;

    /// For this library's own folders.
    const CompiledSystemData& data() const { return *data_; }
    explicit CompiledSystem(std::shared_ptr<const CompiledSystemData> data) : data_(std::move(data)) {}

private:
    std::shared_ptr<const CompiledSystemData> data_;
    friend struct SystemAccess;
};

/// Throws ModelError that carries every diagnostic. While definitions are read, other threads that use the same library wait; the passes of the compiler, most
/// of the time, run beside each other. The library is afterwards what it was before.
CompiledSystem compile(const Library& library, const CompileRequest& request = {});
/// The system as it stands; the builder may go on.
CompiledSystem compile(const SystemBuilder& system);

/// The text of an inner form: "flat", "system", "reduced", "solver", "program" or "source" (C), or by the name of a pass the form behind it. Throws ModelError
/// or UsageError.
std::string show_stage(const Library& library, const CompileRequest& request, const std::string& stage);

}  // namespace netloop
