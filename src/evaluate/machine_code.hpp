// SPDX-License-Identifier: Apache-2.0
// Machine code for a program: one function, made in one pass over the code.
#pragma once

#include <memory>

#include "evaluate/emitter.hpp"
#include "evaluate/program.hpp"

namespace netloop {

class MachineCode {
public:
    /// Null where there is no emitter for the processor, the system gives no executable pages, or the program holds what only the
    /// interpreter does. The callables must outlive the code. Results are bit for bit those of the interpreter: the same operations in
    /// IEEE arithmetic, none contracted, and the same functions of the mathematical library.
    static std::unique_ptr<MachineCode> make(const Program& program, const Callables& callables, Emitter::Encoding encoding = Emitter::Encoding::best);

    /// `memory` as for execute(); `scratch` has scratch_size() numbers, and is each thread's own.
    void run(double* memory, double* scratch) const { entry_(memory, scratch); }
    std::size_t scratch_size() const { return scratch_size_; }
    std::size_t size() const { return pages_->size(); }  ///< bytes

private:
    MachineCode() = default;
    std::unique_ptr<CodePages> pages_;
    void (*entry_)(double*, double*) = nullptr;
    std::size_t scratch_size_ = 0;
    std::vector<std::vector<std::uint32_t>> lists_;  ///< index tables and lists of arguments that the code refers to
};

}  // namespace netloop
