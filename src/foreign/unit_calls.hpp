// SPDX-License-Identifier: Apache-2.0
// The functions of the standard, as one small interface for both of its versions: one instance of a unit, loaded into this process. Types and signatures are
// declared here anew from the standard's text (FMI 2.0.4 and 3.0.1 of the Modelica Association).
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "foreign/unit_description.hpp"

namespace netloop {

/// A call that a unit refused or failed at: what() is "fmi2DoStep: error: <its own words>".
class UnitCallFailed : public std::runtime_error {
public:
    using std::runtime_error::runtime_error;
};

/// A call that says `discard`: there is no answer here, and there may be one elsewhere.
class UnitDiscards : public UnitCallFailed {
public:
    using UnitCallFailed::UnitCallFailed;
};

/// Numbers of a unit that are passed together: for each reference its type and its number of elements, all of them in a row.
struct UnitAccess {
    struct Group {
        ForeignType type = ForeignType::float64;
        std::vector<std::uint32_t> references;
        std::vector<std::size_t> places;  ///< of each of the values, in the row
    };
    std::vector<Group> groups;
    std::size_t n = 0;

    UnitAccess() = default;
    UnitAccess(const std::vector<ForeignVariable>& variables, const std::vector<std::size_t>& which);
};

enum class UnitKind : std::uint8_t { exchange, cosimulation };

/// What came of an event.
struct UnitHappened {
    bool again = false, ended = false, moved = false;  ///< moved: the states have other values
    double next = HUGE_VAL;                            ///< when the unit asks for another, s
};

class UnitCalls {
public:
    virtual ~UnitCalls() = default;
    // All throw UnitCallFailed. Values are those of the unit, in its own units of measure.
    virtual void set(const UnitAccess& which, const double* values) = 0;
    virtual void get(const UnitAccess& which, double* values) = 0;
    virtual void enter_initialization(double start, double tolerance) = 0;
    virtual void exit_initialization() = 0;
    virtual void enter_event() = 0;
    virtual UnitHappened new_discrete_states() = 0;
    virtual void enter_continuous() = 0;
    virtual void set_time(double t) = 0;
    virtual void set_states(const double* x, std::size_t n) = 0;
    virtual void get_states(double* x, std::size_t n) = 0;
    virtual void get_rates(double* rates, std::size_t n) = 0;
    virtual void get_indicators(double* z, std::size_t n) = 0;
    /// Whether an event is asked for behind the step.
    virtual bool completed_step(bool& ended) = 0;
    /// d(unknown)/d(known) for one known; `unknown` one reference a value. False: the unit cannot say so now.
    virtual bool directional(const std::vector<std::uint32_t>& unknown, std::uint32_t known, double* derivatives) = 0;
    /// False: the unit came to its own end within the step.
    virtual bool do_step(double t, double step) = 0;
};

/// Loads the binary in `folder` and makes an instance. Throws UnitProblemFound: no binary, one that cannot be loaded, functions that are missing, an instance
/// that the unit does not make.
std::unique_ptr<UnitCalls> make_unit_calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance);

// --- for the two versions
std::unique_ptr<UnitCalls> make_fmi2_calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance);
std::unique_ptr<UnitCalls> make_fmi3_calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance);

/// A shared object, closed with its last user.
class UnitBinary {
public:
    explicit UnitBinary(const std::string& file);
    ~UnitBinary();
    UnitBinary(const UnitBinary&) = delete;
    UnitBinary& operator=(const UnitBinary&) = delete;
    /// Throws UnitProblemFound.
    void* function(const std::string& name) const;

private:
    void* handle_ = nullptr;
};

/// What a unit says, kept for the message of a call that fails: the last few texts.
class UnitWords {
public:
    void hear(const std::string& text);
    /// What was said since the last look; empty: nothing.
    std::string take();

private:
    std::string said_;
};

/// Throws UnitDiscards or UnitCallFailed unless the status is ok or a warning.
void look_at_status(const char* call, int status, UnitWords& words);

}  // namespace netloop
