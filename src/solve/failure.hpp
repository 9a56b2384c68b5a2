// SPDX-License-Identifier: Apache-2.0
// Numeric failures, told in the user's names.
#pragma once

#include <stdexcept>
#include <string>
#include <vector>

namespace netloop {

/// A start or a run that cannot go on. `what()` is the whole text: cause, time, and the user's names of what is worst.
class NumericFailure : public std::runtime_error {
public:
    NumericFailure(std::string id, const std::string& text, std::string hint = {}) : std::runtime_error(text), id_(std::move(id)), hint_(std::move(hint)) {}
    const std::string& id() const { return id_; }
    const std::string& hint() const { return hint_; }

private:
    std::string id_;
    std::string hint_;
};

}  // namespace netloop
