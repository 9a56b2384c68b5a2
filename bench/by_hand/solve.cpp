// SPDX-License-Identifier: Apache-2.0
#include <cvode/cvode.h>
#include <sundials/sundials_context.h>
#include <sunlinsol/sunlinsol_klu.h>
#include <sunmatrix/sunmatrix_sparse.h>
#include <sunnonlinsol/sunnonlinsol_fixedpoint.h>

#include <algorithm>
#include <chrono>
#include <numeric>

#include "integrate/vector_operations.hpp"
#include "problems.hpp"

namespace by_hand {
namespace {

struct Work {
    const Problem* problem = nullptr;
    std::chrono::steady_clock::time_point give_up;
    std::vector<sunindextype> starts, rows, slot;  ///< slot: of each entry of the pattern, its place in the compressed columns
    std::vector<double> values;
};

int rates(realtype t, N_Vector y, N_Vector dy, void* data)
{
    const Work& w = *static_cast<Work*>(data);
    w.problem->rates(t, N_VGetArrayPointer(y), N_VGetArrayPointer(dy));
    return std::chrono::steady_clock::now() > w.give_up ? -1 : 0;
}

int jacobian(realtype t, N_Vector y, N_Vector, SUNMatrix m, void* data, N_Vector, N_Vector, N_Vector)
{
    Work& w = *static_cast<Work*>(data);
    w.problem->jacobian(t, N_VGetArrayPointer(y), w.values.data());
    std::copy(w.starts.begin(), w.starts.end(), SUNSparseMatrix_IndexPointers(m));
    std::copy(w.rows.begin(), w.rows.end(), SUNSparseMatrix_IndexValues(m));
    double* out = SUNSparseMatrix_Data(m);
    for (std::size_t k = 0; k < w.slot.size(); ++k) out[w.slot[k]] = w.values[k];
    return 0;
}

void compress(Work& w)
{
    std::vector<std::pair<std::size_t, std::size_t>> entries;  // column, row
    w.problem->pattern([&](std::size_t row, std::size_t column, double) { entries.emplace_back(column, row); });
    std::vector<std::size_t> order(entries.size());
    std::iota(order.begin(), order.end(), 0);
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return entries[a] < entries[b]; });
    w.starts.assign(w.problem->n_states() + 1, 0);
    w.rows.resize(entries.size());
    w.slot.resize(entries.size());
    w.values.resize(entries.size());
    for (std::size_t k = 0; k < order.size(); ++k) {
        w.slot[order[k]] = static_cast<sunindextype>(k);
        w.rows[k] = static_cast<sunindextype>(entries[order[k]].second);
        ++w.starts[entries[order[k]].first + 1];
    }
    std::partial_sum(w.starts.begin(), w.starts.end(), w.starts.begin());
}

}  // namespace

Result solve(const Problem& problem, const Settings& settings, const std::vector<double>& times)
{
    Result result;
    Work work;
    work.problem = &problem;
    compress(work);
    auto n = static_cast<sunindextype>(problem.n_states());
    SUNContext context = nullptr;
    SUNContext_Create(nullptr, &context);
    N_Vector y = netloop::new_fast_vector(n, context), least = netloop::new_fast_vector(n, context);
    problem.start(N_VGetArrayPointer(y));
    for (std::size_t i = 0; i < problem.n_states(); ++i) N_VGetArrayPointer(least)[i] = settings.tolerance * problem.usual(i);
    void* cvode = CVodeCreate(settings.adams ? CV_ADAMS : CV_BDF, context);
    CVodeInit(cvode, rates, 0, y);
    CVodeSVtolerances(cvode, settings.tolerance, least);
    CVodeSetUserData(cvode, &work);
    CVodeSetMaxNumSteps(cvode, 1000000);
    SUNMatrix matrix = nullptr;
    SUNLinearSolver linear = nullptr;
    SUNNonlinearSolver iteration = nullptr;
    if (settings.adams) {
        iteration = SUNNonlinSol_FixedPoint(y, 0, context);
        CVodeSetNonlinearSolver(cvode, iteration);
    } else {
        matrix = SUNSparseMatrix(n, n, static_cast<sunindextype>(work.rows.size() + problem.n_states()), CSC_MAT, context);
        linear = SUNLinSol_KLU(y, matrix, context);
        CVodeSetLinearSolver(cvode, linear, matrix);
        CVodeSetJacFn(cvode, jacobian);
        if (settings.renew > 0) {
            CVodeSetLSetupFrequency(cvode, settings.renew);
            CVodeSetJacEvalFrequency(cvode, settings.renew);
        }
    }
    auto begin = std::chrono::steady_clock::now();
    work.give_up = begin + std::chrono::milliseconds(static_cast<long>(1e3 * settings.patience));
    result.done = true;
    for (double t : times) {
        double reached = 0;
        if (CVode(cvode, t, y, &reached, CV_NORMAL) < 0) {
            result.done = false;
            break;
        }
        const double* now = N_VGetArrayPointer(y);
        if (settings.keep.empty()) {
            result.states.emplace_back(now, now + n);
            continue;
        }
        std::vector<double>& row = result.states.emplace_back(settings.keep.size());
        for (std::size_t k = 0; k < row.size(); ++k) row[k] = now[settings.keep[k]];
    }
    result.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    CVodeGetNumSteps(cvode, &result.steps);
    CVodeFree(&cvode);
    if (linear != nullptr) SUNLinSolFree(linear);
    if (matrix != nullptr) SUNMatDestroy(matrix);
    if (iteration != nullptr) SUNNonlinSolFree(iteration);
    N_VDestroy(y);
    N_VDestroy(least);
    SUNContext_Free(&context);
    return result;
}

}  // namespace by_hand
