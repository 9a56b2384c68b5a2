// SPDX-License-Identifier: Apache-2.0
// Functions of a component that no text defines: something outside the program works them out.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "algebra/callable.hpp"

namespace netloop {

class OutsideFunction {
public:
    virtual ~OutsideFunction() = default;
    /// What an expression in the part `path` calls: one for each result of the function, in the order of the text. Any thread.
    virtual std::vector<CallablePtr> callables(const std::string& path) const = 0;
};

/// A component that was made from a file of another form: its text in our language, and who works out its functions, by their names.
struct OutsideComponent {
    std::string name, text;
    std::vector<std::pair<std::string, std::shared_ptr<const OutsideFunction>>> functions;
};

}  // namespace netloop
