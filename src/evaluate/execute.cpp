// SPDX-License-Identifier: Apache-2.0
// Which form of a program runs, and when machine code is made.
#include <atomic>
#include <mutex>

#include "evaluate/interpret.hpp"
#include "evaluate/machine_code.hpp"

namespace netloop {

class Executable {
public:
    Executable(const Callables& callables, std::size_t n_operations) : callables_(callables), n_operations_(n_operations) {}

    void run(const Program& program, Evaluator evaluator, std::vector<double>& memory, std::vector<double>& scratch) const
    {
        // Making machine code costs about as much as interpreting a program some fifty times.
        constexpr std::size_t kPays = 30;
        // Below this length of straight code the processor remembers its course, and grouping gains nothing.
        constexpr std::size_t kLong = 1000;
        if (evaluator == Evaluator::automatic) {
            bool machine = n_runs_.fetch_add(1, std::memory_order_relaxed) >= kPays;
            evaluator = machine ? Evaluator::machine : n_operations_ > kLong ? Evaluator::grouped : Evaluator::plain;
        }
        if (evaluator == Evaluator::machine) {
            // no exception may pass through call_once: the C library below it would need memory to let it
            std::call_once(machine_once_, [&] {
                try {
                    machine_ = MachineCode::make(program, callables_);
                } catch (const std::bad_alloc&) {
                }
            });
            if (machine_ != nullptr) {
                if (scratch.size() < machine_->scratch_size()) scratch.resize(machine_->scratch_size());
                machine_->run(memory.data(), scratch.data());
                return;
            }
            evaluator = Evaluator::grouped;
        }
        if (evaluator == Evaluator::plain) {
            for (const Kernel& kernel : program.kernels) interpret(kernel, callables_, memory.data(), scratch);
            return;
        }
        std::call_once(grouped_once_, [&] {
            try {
                std::vector<GroupedCode> made;
                for (const Kernel& kernel : program.kernels) made.push_back(kernel.n_instances == 1 ? group(kernel) : GroupedCode{});
                grouped_ = std::move(made);
            } catch (const std::bad_alloc&) {
            }
        });
        if (grouped_.size() != program.kernels.size()) {
            for (const Kernel& kernel : program.kernels) interpret(kernel, callables_, memory.data(), scratch);
            return;
        }
        for (std::size_t k = 0; k < program.kernels.size(); ++k) {
            const Kernel& kernel = program.kernels[k];
            if (kernel.n_instances == 1)
                interpret(grouped_[k], kernel, callables_, memory.data());
            else
                interpret(kernel, callables_, memory.data(), scratch);
        }
    }

private:
    Callables callables_;
    std::size_t n_operations_;
    mutable std::atomic<std::size_t> n_runs_ = 0;
    mutable std::once_flag machine_once_, grouped_once_;
    mutable std::unique_ptr<MachineCode> machine_;
    mutable std::vector<GroupedCode> grouped_;
};

void prepare(Program& program, const Callables& callables)
{
    program.prepared = std::make_shared<Executable>(callables, program.n_operations());
}

void execute(const Program& program, Evaluator evaluator, std::vector<double>& memory, std::vector<double>& scratch)
{
    program.prepared->run(program, evaluator, memory, scratch);
}

}  // namespace netloop
