// SPDX-License-Identifier: Apache-2.0
// Machines in fixed steps of bounded work: fit for real time or not, run here, written as C for somewhere else.
#pragma once

#include <atomic>
#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "netloop/run.hpp"

namespace netloop {

/// How a machine goes on in fixed steps. What happens within a step happens at its end.
struct FixedStepOptions {
    /// "euler" and "rk4": explicit; what is no state is solved behind each stage. "linear-euler": one turn of Newton's iteration on the implicit Euler step;
    /// "implicit-euler": three of them. "rosenbrock": linearly implicit, of order 2, L-stable.
    std::string method = "linear-euler";
    double step = 1e-3;    ///< s
    int turns = 0;         ///< of Newton's iteration, where another count than the method's own is wanted; 0: the method's own
    bool correct = false;  ///< linear-euler and implicit-euler solve what is no state anew behind an event; the others always do
};

/// Why a machine in fixed steps goes on no more.
enum class FixedStepStatus { good, stopped, failed, not_finite, no_start, delay_too_long, unsettled_events };
/// "a value is no longer finite" ...
std::string text_of(FixedStepStatus status);

/// One machine in fixed steps, in this process: the same numbers as the C that export_c() writes, bit for bit. The work of a step is bounded: Newton's turns
/// are counted, the order of elimination is that of the start, a pivot that has become too small is counted and told. Not for several threads at once.
class FixedStepRun {
public:
    /// Settles the start, with what `prepare` sets. `inputs`: inputs of the system (CompileRequest::from_outside makes more); `outputs`: paths of quantities.
    /// Throws UsageError for paths that there are not, RunError ("fixed-step") for a model that cannot go on in fixed steps, and what a start throws. Cost: the
    /// start, and one elimination written out.
    FixedStepRun(const CompiledSystem& system, const FixedStepOptions& options, const std::vector<std::string>& inputs = {},
                 const std::vector<std::string>& outputs = {}, const std::function<void(Run&)>& prepare = {});
    ~FixedStepRun();
    FixedStepRun(FixedStepRun&&) noexcept;

    /// A param, SI, before begin(), which then searches the start for it in a bounded count of turns. Throws UsageError for a path that there is not.
    void set(const std::string& param, double si);
    /// Back to the start, and what happens at it. The constructor has done so once.
    FixedStepStatus begin();
    /// An input by its number among `inputs`, SI; it holds from the next step on.
    void set_input(std::size_t number, double si);
    /// One step. Allocates nothing once every form of event has been met.
    FixedStepStatus step();
    double time() const;
    /// An output by its number among `outputs`, SI. Computes all of them at the first call behind a step.
    double output(std::size_t number);
    std::size_t steps() const;
    std::size_t bad_pivots() const;
    std::size_t events() const;  ///< conditions that turned, blocks that ran, transitions taken
    /// What `stop` or `fail` in the model said, or which quantity is not finite.
    std::string said() const;
    /// Operations of a step without events, and of all that can happen at one moment beside it.
    std::size_t step_operations() const, moment_operations() const;

private:
    struct Data;
    std::unique_ptr<Data> data_;
};

struct FixedStepRequest {
    FixedStepOptions options{};          ///< of the method that is asked about
    std::vector<std::string> methods{};  ///< that are looked at; empty: all five
    std::optional<double> stop{};        ///< s; the scenario's if it is not given
    double tolerance = 1e-8;             ///< of the run in variable steps that all is held against
    std::function<void(Run&)> prepare{};
    std::function<void(const std::string&)> progress{};  ///< what is being done
    const std::atomic<bool>* interrupt = nullptr;        ///< throws Interrupted soon
};

/// Whether a model is fit for real time: what was found, by runs.
struct FixedStepReport {
    /// A quantity, or a measure of the scenario, against the run in variable steps.
    struct Difference {
        std::string name, unit;
        double scale = 1, offset = 0;
        double largest = 0;                ///< SI
        double at = 0;                     ///< s; NaN of a measure
        double share = 0, mean_share = 0;  ///< largest, and root mean square, of the span of the quantity over the run; of the value of a measure
        double reference = 0, found = 0;   ///< of a measure, SI
    };
    struct Method {
        std::string name;
        bool holds = false;         ///< at the step asked for: it came to the end, and no state went further off than its span and a bit
        std::string fails;          ///< why not
        double largest_stable = 0;  ///< s, by runs; 0: none was found
        std::string none_found;     ///< how the search for it ended then
        double tried_over = 0;      ///< s of the scenario that these runs went over
        double by_modes = 0;        ///< s: what the eigenvalues along the run allow an explicit method; 0: not looked at
        std::vector<Difference> quantities, measures;
        std::size_t steps = 0, events = 0, bad_pivots = 0, warnings = 0;
        std::size_t step_operations = 0, moment_operations = 0;
        double median = 0, nearly_all = 0, longest = 0;  ///< s for a step on this machine; nearly all: 99.9 %
    };
    std::string system, scenario;
    double step = 0, stop = 0, tolerance = 0;
    std::vector<Method> methods;       ///< the one asked about first
    std::vector<std::string> hinders;  ///< events within steps, delays, choices of states ...
    std::vector<std::string> cannot;   ///< why it cannot go on in fixed steps at all; `methods` is empty then
    /// The parts whose equations take most operations, most first.
    struct Part {
        std::string name;  ///< empty: the system itself
        double share = 0;
    };
    std::vector<Part> parts;
    std::vector<std::string> next;  ///< what to do

    /// Whether the method asked about holds.
    bool fit() const { return !methods.empty() && methods[0].holds; }
    /// As `netloop realtime` prints it.
    std::string text() const;
    std::string json() const;
};

/// Makes the runs. Throws UsageError for a method that there is not, RunError where the run in variable steps fails. Cost: one run in variable steps, then for
/// each method a run at the step asked for and some ten to find the largest stable one, each of at most a million steps.
FixedStepReport fixed_step_report(const CompiledSystem& system, const FixedStepRequest& request);

struct ExportCRequest {
    FixedStepOptions options{};
    std::string name{};                   ///< a C identifier, in front of all names; empty: made of the system's
    std::vector<std::string> inputs{};    ///< paths; empty: all inputs of the system
    std::vector<std::string> outputs{};   ///< paths, or patterns such as pump.*; at least one
    std::string folder{};                 ///< is made; only files that were exported before are written over
    bool single = false;                  ///< float instead of double
    std::function<void(Run&)> prepare{};  ///< values of params and inputs that are exported as they are
};

struct ExportReport {
    std::vector<std::string> files;
    std::string name;
    std::size_t n_inputs = 0, n_outputs = 0;
    std::size_t state_bytes = 0;  ///< of one machine
    std::size_t step_operations = 0, moment_operations = 0;
};

/// Writes NAME.h, NAME.c, main.c (which runs it against CSV), a Makefile, CMakeLists.txt and README.md. Throws what FixedStepRun throws, and RecordingError
/// where a file cannot be written.
ExportReport export_c(const CompiledSystem& system, const ExportCRequest& request);

/// What was exported, compiled with this machine's C compiler and run beside the machine in this process.
struct ExportCheck {
    bool equal = false;     ///< every number of every output, to the last bit
    std::string compiler;   ///< what was called
    std::string failed;     ///< what it or the program said, if it failed
    std::string ended;      ///< when and why both went on no more before the stop time; empty: they did not
    std::size_t steps = 0;  ///< compared
    double share = 0;       ///< the largest difference of an output, of its span
    std::string worst;      ///< that output
    std::size_t code_bytes = 0;
    /// "bit for bit equal over 60,000 steps".
    std::string text() const;
};
/// `request` as it was exported; `stop` in s. Throws RecordingError if the folder does not hold what was exported.
ExportCheck check_export_c(const CompiledSystem& system, const ExportCRequest& request, double stop);

/// What a unit of the open standard FMI 2.0 is made of.
struct ExportFmuRequest {
    FixedStepOptions options{};           ///< of co-simulation; what is no state is always solved anew behind an event
    std::string name{};                   ///< a C identifier: of the files inside and in front of names; empty: made of the system's
    std::vector<std::string> inputs{};    ///< paths; empty: all inputs of the system
    std::vector<std::string> outputs{};   ///< paths, or patterns such as pump.*; at least one
    std::string file{};                   ///< .fmu
    int version = 2;                      ///< of the standard: 2 (2.0.4) or 3 (3.0)
    std::function<void(Run&)> prepare{};  ///< values of params and inputs that are exported as they are
};

/// Writes one unit for model exchange and co-simulation: the description, the C sources, and the binary for this machine, made by its C compiler (CC, else cc).
/// Without a compiler it has sources alone, which `notes` tell. Model exchange is left out of a system with delays. Throws as export_c() does.
struct ExportFmuReport {
    std::string file, name;
    std::size_t variables = 0, states = 0, indicators = 0;
    bool binary = false, model_exchange = true;
    std::vector<std::string> notes;
};
ExportFmuReport export_fmu(const CompiledSystem& system, const ExportFmuRequest& request);

}  // namespace netloop
