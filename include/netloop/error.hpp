// SPDX-License-Identifier: Apache-2.0
// Errors of the public interface. The library never prints and never exits.
#pragma once

#include <stdexcept>
#include <string>
#include <utility>
#include <vector>

namespace netloop {

/// One message about a model. `rendered` is the whole text as a person reads it, with the line and a marker under it.
struct Diagnostic {
    enum class Severity { note, warning, error } severity = Severity::error;
    std::string id;    ///< stable slug: "unit-mismatch"; docs/messages.md explains each
    std::string file;  ///< empty: not from a file
    unsigned line = 0, column = 0;
    std::string text;
    std::string hint;  ///< what would mend it; may be empty
    std::string rendered;
};

/// A model that cannot be used. `what()` is all errors as text; diagnostics() has each of them, notes and warnings too.
class ModelError : public std::runtime_error {
public:
    ModelError(const std::string& text, std::vector<Diagnostic> diagnostics) : std::runtime_error(text), diagnostics_(std::move(diagnostics)) {}
    const std::vector<Diagnostic>& diagnostics() const { return diagnostics_; }

private:
    std::vector<Diagnostic> diagnostics_;
};

/// A start or a run that failed on numbers. `what()` tells cause, time, equation and quantities; `id()` is a stable slug
/// ("start-failed", "start-singular", "start-contradiction", "run-failed", "chattering", "out-of-range"); `hint()` what may mend it.
class RunError : public std::runtime_error {
public:
    RunError(std::string id, const std::string& text, std::string hint = {}) : std::runtime_error(text), id_(std::move(id)), hint_(std::move(hint)) {}
    const std::string& id() const { return id_; }
    const std::string& hint() const { return hint_; }

private:
    std::string id_;
    std::string hint_;
};

/// Wrong use of the interface: an unknown path, a unit that does not fit.
class UsageError : public std::invalid_argument {
public:
    using std::invalid_argument::invalid_argument;
};

/// Work that was given up because its interrupt flag was set (CompileRequest::interrupt, RunOptions::interrupt).
class Interrupted : public std::runtime_error {
public:
    using std::runtime_error::runtime_error;
};

}  // namespace netloop
