// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_functions.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace netloop {
namespace {

// What a unit answers, its derivative by one argument, and of that the derivative by another, as a difference.
class UnitCallable : public Callable {
public:
    UnitCallable(std::shared_ptr<const UnitPart> part, UnitResult result, std::size_t n_arguments)
        : part_(std::move(part)), result_(result), n_(n_arguments), name_(fmt::format("unit '{}'", part_->unit().file))
    {
    }
    const std::string& name() const override { return name_; }
    std::size_t n_arguments() const override { return n_; }
    std::size_t n_scratch() const override { return by_.size() == 2 ? n_ : 0; }
    bool has_state() const override { return true; }
    bool is_quantity(std::size_t argument) const override { return result_.what != UnitAnswer::set_of_params && argument >= kUnitTime; }
    std::string failure() const override { return UnitSession::current().live(part_).failure(); }
    bool smooth() const override { return by_.size() < 2; }

    double evaluate(const double* a, double* scratch) const override
    {
        LiveUnit& live = UnitSession::current().live(part_);
        if (by_.empty()) return live.answer(result_.what, result_.index, a);
        if (by_.size() == 1) return live.slope(result_.what, result_.index, by_[0], a);
        constexpr double kShare = 1e-4, kLeast = 1e-3;
        const std::size_t second = by_[1];
        double h = kShare * std::max(std::abs(a[second]), kLeast), side[2];
        std::copy(a, a + n_, scratch);
        for (int k = 0; k < 2; ++k) {
            scratch[second] = a[second] + (k == 0 ? h : -h);
            side[k] = live.slope(result_.what, result_.index, by_[0], scratch);
        }
        return (side[0] - side[1]) / (2 * h);
    }
    std::shared_ptr<const Callable> derivative(Graph&, std::size_t argument) const override
    {
        constexpr std::size_t kMost = 2;
        auto other = std::make_shared<UnitCallable>(*this);
        if (is_continuous(result_.what) && is_quantity(argument) && by_.size() < kMost) {
            other->by_.push_back(argument);
        } else {
            other->result_ = {};
            other->by_.clear();
        }
        return other;
    }

private:
    std::shared_ptr<const UnitPart> part_;
    UnitResult result_;
    std::size_t n_;
    std::vector<std::size_t> by_;  ///< arguments that it is the derivative by
    std::string name_;
};

class UnitFunction : public OutsideFunction {
public:
    UnitFunction(PartOf part_of, std::vector<UnitResult> results, std::size_t n_arguments)
        : part_of_(std::move(part_of)), results_(std::move(results)), n_(n_arguments)
    {
    }
    std::vector<CallablePtr> callables(const std::string& path) const override
    {
        std::shared_ptr<const UnitPart> part = part_of_(path);
        std::vector<CallablePtr> list;
        for (const UnitResult& r : results_) list.push_back(std::make_shared<UnitCallable>(part, r, n_));
        return list;
    }

private:
    PartOf part_of_;
    std::vector<UnitResult> results_;
    std::size_t n_;
};

}  // namespace

std::shared_ptr<const OutsideFunction> unit_function(PartOf part_of, std::vector<UnitResult> results, std::size_t n_arguments)
{
    return std::make_shared<UnitFunction>(std::move(part_of), std::move(results), n_arguments);
}

}  // namespace netloop
