// SPDX-License-Identifier: Apache-2.0
// Whose instances of foreign units are asked on this thread; apart from the instances, so that who only opens a scope need not know them.
#pragma once

namespace netloop {

class UnitSession;

/// Within it, functions of units on this thread ask this session (null: nothing changes).
class UnitSessionScope {
public:
    explicit UnitSessionScope(UnitSession* session);
    ~UnitSessionScope();
    UnitSessionScope(const UnitSessionScope&) = delete;
    UnitSessionScope& operator=(const UnitSessionScope&) = delete;

private:
    UnitSession* before_;
};

}  // namespace netloop
