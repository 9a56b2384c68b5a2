// SPDX-License-Identifier: Apache-2.0
// Errors of the public interface: one family, caught as netloop::Error. The library never prints and never exits.
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

/// Everything that this library throws, but for std::bad_alloc. `what()` tells the cause with place, part and values in the user's units, and stands alone.
class Error : public std::runtime_error {
public:
    /// `text` is what() gives.
    Error(std::string id, const std::string& text, std::string hint = {}, std::vector<Diagnostic> diagnostics = {})
        : std::runtime_error(text), id_(std::move(id)), hint_(std::move(hint)), diagnostics_(std::move(diagnostics))
    {
    }
    /// A stable slug for programs; docs/messages.md explains each.
    const std::string& id() const { return id_; }
    /// What would mend it; may be empty.
    const std::string& hint() const { return hint_; }
    /// Of a model that cannot be used: each message, notes and warnings too. Empty for all other errors.
    const std::vector<Diagnostic>& diagnostics() const { return diagnostics_; }

private:
    std::string id_, hint_;
    std::vector<Diagnostic> diagnostics_;
};

/// A model that cannot be used. `what()` is all errors as text; the id is that of the first of them.
class ModelError : public Error {
public:
    /// `text`: all errors rendered.
    ModelError(const std::string& text, const std::vector<Diagnostic>& diagnostics) : Error(first_error(diagnostics), text, {}, diagnostics) {}

private:
    static std::string first_error(const std::vector<Diagnostic>& list)
    {
        for (const Diagnostic& d : list)
            if (d.severity == Diagnostic::Severity::error) return d.id;
        return "model";
    }
};

/// A start or a run that failed on numbers. `what()` tells cause, time, equation and quantities; the ids are "start-failed", "start-singular",
/// "start-contradiction", "run-failed", "chattering", "pile-up", "set-twice", "said-fail", "out-of-range", "not-verified", "no-system".
class RunError : public Error {
public:
    using Error::Error;
};

/// Wrong use of the interface: an unknown path, a unit that does not fit, an option out of its range. Nothing has been changed by the call.
class UsageError : public Error {
public:
    /// `text` is what() gives.
    explicit UsageError(const std::string& text, std::string hint = {}) : Error("usage", text, std::move(hint)) {}
};

/// A file that cannot be read or written, or a column that is not there.
class RecordingError : public Error {
public:
    /// `text` is what() gives.
    explicit RecordingError(const std::string& text, std::string hint = {}) : Error("recording", text, std::move(hint)) {}
};

/// Work that was given up because its interrupt flag was set (CompileRequest::interrupt, RunOptions::interrupt).
class Interrupted : public Error {
public:
    /// `text` is what() gives.
    explicit Interrupted(const std::string& text) : Error("interrupted", text) {}
};

}  // namespace netloop
