// SPDX-License-Identifier: Apache-2.0
// SUNDIALS CVODE (variable-order BDF for y' = f(t, y); Hindmarsh et al., 2005, ACM TOMS 31, 363-396) as an oracle: y are the states alone,
// and everything else is solved from them in every evaluation of f, so this way to a solution shares little with our own.
#include <cvode/cvode.h>
#include <fmt/format.h>
#include <sunlinsol/sunlinsol_dense.h>
#include <sunlinsol/sunlinsol_klu.h>
#include <sunmatrix/sunmatrix_dense.h>
#include <sunmatrix/sunmatrix_sparse.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "integrate/integrator.hpp"
#include "integrate/stiffness.hpp"
#include "integrate/vector_operations.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

constexpr std::size_t kMostDense = 1000;

class Cvode : public Integrator {
public:
    Cvode(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation), m_(evaluation.model()), sources_(sources), settings_(settings), consistent_(evaluation), explicit_(is_explicit(m_, e_))
    {
        const char* hint = "take ida for comparison, or bdf";
        if (!m_.form.choices.empty())
            throw NumericFailure("run-failed", "cvode needs states that stay the same: this system chooses them anew on the way", hint);
        for (std::uint32_t i = 0; i < m_.n(); ++i)
            if (m_.form.z[i].kind == ZEntry::Kind::state) states_.push_back(i), usual_.push_back(m_.form.z[i].usual);
        if (states_.empty()) throw NumericFailure("run-failed", "cvode needs states: this system has none", hint);
        if (!explicit_ && states_.size() > kMostDense)
            throw NumericFailure(
                "run-failed",
                fmt::format("cvode takes at most {} states of a system with equations to be solved in each step; there are {}", kMostDense, states_.size()),
                hint);
        SUNContext_Create(nullptr, &context_);
        auto n = static_cast<sunindextype>(states_.size());
        y_ = new_fast_vector(n, context_);
        crossings_.assign(n_root_functions(m_), 0);
        full_.z.assign(m_.n(), 0.0);
        full_.rates.assign(m_.n(), 0.0);
        if (explicit_) {
            add_diagonal();
            matrix_ = SUNSparseMatrix(n, n, static_cast<sunindextype>(rows_.size()), CSC_MAT, context_);
            solver_ = SUNLinSol_KLU(y_, matrix_, context_);
        } else {
            matrix_ = SUNDenseMatrix(n, n, context_);
            solver_ = SUNLinSol_Dense(y_, matrix_, context_);
        }
    }
    ~Cvode() override
    {
        if (memory_ != nullptr) CVodeFree(&memory_);
        SUNLinSolFree(solver_);
        SUNMatDestroy(matrix_);
        N_VDestroy(y_);
        SUNContext_Free(&context_);
    }
    Cvode(const Cvode&) = delete;
    Cvode& operator=(const Cvode&) = delete;

    void restart(const State& s) override
    {
        time_ = s.time;
        full_ = s;
        for (std::size_t k = 0; k < states_.size(); ++k) NV_Ith_S(y_, k) = s.z[states_[k]];
        if (memory_ != nullptr) {
            add_counts(total_);
            CVodeReInit(memory_, time_, y_);
            return;
        }
        memory_ = CVodeCreate(CV_BDF, context_);
        CVodeSetErrHandlerFn(
            memory_, [](int, const char*, const char*, char*, void*) {}, nullptr);
        CVodeInit(memory_, rates_callback, time_, y_);
        CVodeSetUserData(memory_, this);
        CVodeWFtolerances(memory_, weights_callback);
        CVodeSetMaxNumSteps(memory_, -1);
        CVodeSetLinearSolver(memory_, solver_, matrix_);
        if (explicit_) CVodeSetJacFn(memory_, jacobian_callback);
        if (!crossings_.empty()) CVodeRootInit(memory_, static_cast<int>(crossings_.size()), root_callback);
    }
    void states_changed() override {}

    Stopped step(double target) override
    {
        CVodeSetStopTime(memory_, target);
        int flag = CVode(memory_, target, y_, &time_, CV_ONE_STEP);
        for (std::size_t k = 0; k < states_.size(); ++k) usual_[k] = std::max(usual_[k], std::abs(NV_Ith_S(y_, k)));
        if (flag == CV_ROOT_RETURN) {
            CVodeGetRootInfo(memory_, crossings_.data());
            return Stopped::root;
        }
        if (flag < 0) {
            const char* cause = flag == CV_ERR_FAILURE    ? "the error of a step stays too large however small the step"
                                : flag == CV_CONV_FAILURE ? "the equations of a step cannot be solved however small the step"
                                                          : "the integrator stopped";
            throw NumericFailure("run-failed", describe_failed_step(e_, sources_, time_, cause, not_finite_, worst(), full_.z.data()));
        }
        return flag == CV_TSTOP_RETURN ? Stopped::target : Stopped::stepped;
    }
    double time() const override { return time_; }

    void interpolate(double t, State& s) override
    {
        N_Vector at = N_VClone(y_);
        CVodeGetDky(memory_, t, 0, at);
        place(t, at);
        s = full_;
        N_VDestroy(at);
    }
    const std::vector<int>& crossings() const override { return crossings_; }
    StepCounts counts() const override
    {
        StepCounts c = total_;
        add_counts(c);
        return c;
    }
    std::vector<std::size_t> worst() const override
    {
        std::vector<std::size_t> order;
        if (memory_ == nullptr) return order;
        N_Vector error = N_VClone(y_), weight = N_VClone(y_);
        CVodeGetEstLocalErrors(memory_, error);
        CVodeGetErrWeights(memory_, weight);
        std::vector<std::size_t> k(states_.size());
        std::iota(k.begin(), k.end(), 0);
        std::stable_sort(k.begin(), k.end(), [&](std::size_t a, std::size_t b) {
            return std::abs(NV_Ith_S(error, a) * NV_Ith_S(weight, a)) > std::abs(NV_Ith_S(error, b) * NV_Ith_S(weight, b));
        });
        for (std::size_t i : k) order.push_back(states_[i]);
        N_VDestroy(error);
        N_VDestroy(weight);
        return order;
    }

private:
    // Everything at the states of `y`; rates included.
    void place(double t, N_Vector y)
    {
        full_.time = t;
        for (std::size_t k = 0; k < states_.size(); ++k) full_.z[states_[k]] = NV_Ith_S(y, k);
        if (!explicit_) {
            consistent_.solve(full_, sources_);
            return;
        }
        std::copy(full_.z.begin(), full_.z.end(), e_.z());
        if (!explicit_rates(e_, t, full_.rates.data())) throw NumericFailure("run-failed", "an equation has no finite value");
        e_.at(t, full_.z.data(), full_.rates.data());
    }

    // No exception may pass through SUNDIALS: what cannot be solved asks for a smaller step.
    template <typename Work>
    int guarded(Work work)
    {
        try {
            work();
            return 0;
        } catch (const NumericFailure&) {
            return 1;
        }
    }
    static int rates_callback(double t, N_Vector y, N_Vector dy, void* self)
    {
        auto& s = *static_cast<Cvode*>(self);
        return s.guarded([&] {
            s.place(t, y);
            for (std::size_t k = 0; k < s.states_.size(); ++k) NV_Ith_S(dy, k) = s.full_.rates[s.states_[k]];
        });
    }
    static int root_callback(double t, N_Vector y, double* g, void* self)
    {
        auto& s = *static_cast<Cvode*>(self);
        return s.guarded([&] {
            s.place(t, y);
            s.e_.at(t, s.full_.z.data(), s.full_.rates.data());
            root_functions(s.e_, g);
        });
    }
    static int weights_callback(N_Vector y, N_Vector w, void* self)
    {
        auto& s = *static_cast<Cvode*>(self);
        for (std::size_t k = 0; k < s.states_.size(); ++k) NV_Ith_S(w, k) = 1 / (s.settings_.tolerance * (std::abs(NV_Ith_S(y, k)) + s.usual_[k]));
        return 0;
    }

    // df/dz = -dF/dz, with a place for the diagonal in every column.
    void add_diagonal()
    {
        const SparsePattern& p = m_.pattern;
        starts_.push_back(0);
        for (std::uint32_t c = 0; c < p.n_columns; ++c) {
            bool met = false;
            auto diagonal = [&] {
                if (!met) rows_.push_back(c), from_.push_back(kNoNode);
                met = true;
            };
            for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k) {
                if (p.rows[k] > static_cast<std::int64_t>(c)) diagonal();
                met |= p.rows[k] == static_cast<std::int64_t>(c);
                rows_.push_back(p.rows[k]);
                from_.push_back(static_cast<std::uint32_t>(k));
            }
            diagonal();
            starts_.push_back(static_cast<sunindextype>(rows_.size()));
        }
    }
    static int jacobian_callback(double t, N_Vector y, N_Vector, SUNMatrix j, void* self, N_Vector, N_Vector, N_Vector)
    {
        auto& s = *static_cast<Cvode*>(self);
        return s.guarded([&] {
            s.place(t, y);
            s.e_.jacobian(0, s.values_);
            std::copy(s.starts_.begin(), s.starts_.end(), SUNSparseMatrix_IndexPointers(j));
            std::copy(s.rows_.begin(), s.rows_.end(), SUNSparseMatrix_IndexValues(j));
            for (std::size_t k = 0; k < s.rows_.size(); ++k) SUNSparseMatrix_Data(j)[k] = s.from_[k] == kNoNode ? 0 : -s.values_[s.from_[k]];
        });
    }

    void add_counts(StepCounts& c) const
    {
        if (memory_ == nullptr) return;
        long steps = 0, rates = 0, setups = 0, errors = 0, failures = 0, jacobians = 0;
        int order = 0, next = 0;
        double first = 0, last = 0, now = 0, t = 0;
        CVodeGetIntegratorStats(memory_, &steps, &rates, &setups, &errors, &order, &next, &first, &last, &now, &t);
        CVodeGetNumNonlinSolvConvFails(memory_, &failures);
        CVodeGetNumJacEvals(memory_, &jacobians);
        c.steps += static_cast<std::size_t>(steps);
        c.residuals += static_cast<std::size_t>(rates);
        c.jacobians += static_cast<std::size_t>(jacobians);
        c.error_failures += static_cast<std::size_t>(errors);
        c.convergence_failures += static_cast<std::size_t>(failures);
        c.last_order = order;
        c.last_step = last;
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    ConsistentSolver consistent_;
    bool explicit_;
    std::vector<std::uint32_t> states_;
    std::vector<double> usual_, values_;
    std::vector<sunindextype> starts_, rows_;
    std::vector<std::uint32_t> from_;
    State full_;
    SUNContext context_ = nullptr;
    N_Vector y_ = nullptr;
    SUNMatrix matrix_ = nullptr;
    SUNLinearSolver solver_ = nullptr;
    void* memory_ = nullptr;
    double time_ = 0;
    std::vector<int> crossings_;
    StepCounts total_;
    NotFinitePoint not_finite_;
};

}  // namespace

std::unique_ptr<Integrator> make_cvode(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<Cvode>(evaluation, sources, settings);
}

}  // namespace netloop
