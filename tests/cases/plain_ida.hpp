// SPDX-License-Identifier: Apache-2.0
// Integration that uses no pass of ours: IDA on the equations as written, with a Jacobian by differences.
#pragma once

#include <doctest/doctest.h>
#include <ida/ida.h>
#include <nvector/nvector_serial.h>
#include <sunlinsol/sunlinsol_dense.h>
#include <sunmatrix/sunmatrix_dense.h>

#include <vector>

#include "api/internal.hpp"
#include "integrate/simulate.hpp"
#include "verify/plain_values.hpp"

namespace test {

using namespace netloop;

// The equations as written, as IDA sees them: unknowns are all quantities.
class AsWritten {
public:
    AsWritten(const CompiledModel& m, Evaluation& e) : m_(m), w_(m.form.as_written()), e_(e), values_(m.form.flat().graph, roots(w_), w_.needs, 1e-9)
    {
        leaves_.parameter = [this](std::uint32_t p) { return e_.parameter(p); };
        leaves_.memory = [this](std::uint32_t k) { return e_.memory(k); };
        leaves_.quantity = [this](QuantityId q, std::uint32_t order) { return Measured{order == 0 ? y_[q] : order == 1 ? rates_[q] : 0, 0}; };
    }
    std::size_t size() const { return m_.form.flat().quantities.size(); }
    bool is_square() const { return w_.equations.size() == size(); }
    static int residual(realtype t, N_Vector y, N_Vector yp, N_Vector r, void* self)
    {
        auto& a = *static_cast<AsWritten*>(self);
        a.y_ = N_VGetArrayPointer(y);
        a.rates_ = N_VGetArrayPointer(yp);
        a.leaves_.time = t;
        a.values_.at(a.leaves_);
        for (std::size_t i = 0; i < a.w_.equations.size(); ++i)
            N_VGetArrayPointer(r)[i] = a.values_(a.w_.equations[i].left).value - a.values_(a.w_.equations[i].right).value;
        return 0;
    }

private:
    static std::vector<NodeId> roots(const WrittenModel& w)
    {
        std::vector<NodeId> list;
        for (const auto& e : w.equations) list.insert(list.end(), {e.left, e.right});
        return list;
    }
    const CompiledModel& m_;
    const WrittenModel& w_;
    Evaluation& e_;
    PlainValues values_;
    LeafValues leaves_;
    const double *y_ = nullptr, *rates_ = nullptr;
};

// Values of all quantities at `stop` by IDA; empty if it gives up.
inline std::vector<double> by_ida(const CompiledSystem& system, double stop, double tolerance = 1e-10)
{
    Simulation sim(system.data().model, system.data().sources, {});
    sim.evaluation().settle_parameters();
    sim.start(0);
    Evaluation& e = sim.evaluation();
    const CompiledModel& m = *system.data().model;
    AsWritten model(m, e);
    REQUIRE(model.is_square());
    std::size_t n = model.size();
    const State& s = sim.state();
    e.at(0, s.z.data(), s.rates.data());
    e.outputs();
    std::vector<double> leaves(m.form.as_written().leaves.size());
    e.written(leaves.data());
    SUNContext context = nullptr;
    SUNContext_Create(nullptr, &context);
    N_Vector y = N_VNew_Serial(static_cast<sunindextype>(n), context), yp = N_VNew_Serial(static_cast<sunindextype>(n), context);
    for (QuantityId q = 0; q < n; ++q) {
        N_VGetArrayPointer(y)[q] = e.own_output(q);
        std::uint32_t first = m.form.as_written().first_leaf[q];
        N_VGetArrayPointer(yp)[q] = m.form.as_written().first_leaf[q + 1] > first + 1 ? leaves[first + 1] : 0;
    }
    void* ida = IDACreate(context);
    IDAInit(ida, AsWritten::residual, 0, y, yp);
    IDASStolerances(ida, tolerance, 0.1 * tolerance);
    IDASetUserData(ida, &model);
    IDASetMaxNumSteps(ida, 40000);
    SUNMatrix matrix = SUNDenseMatrix(static_cast<sunindextype>(n), static_cast<sunindextype>(n), context);
    SUNLinearSolver solver = SUNLinSol_Dense(y, matrix, context);
    IDASetLinearSolver(ida, solver, matrix);
    IDASetErrFile(ida, nullptr);
    realtype reached = 0;
    int flag = IDASolve(ida, stop, &reached, y, yp, IDA_NORMAL);
    std::vector<double> values;
    if (flag >= 0) values.assign(N_VGetArrayPointer(y), N_VGetArrayPointer(y) + n);
    IDAFree(&ida);
    SUNLinSolFree(solver);
    SUNMatDestroy(matrix);
    N_VDestroy(y);
    N_VDestroy(yp);
    SUNContext_Free(&context);
    return values;
}

}  // namespace test
