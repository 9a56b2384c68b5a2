// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>
#include <ida/ida.h>
#include <sunmatrix/sunmatrix_sparse.h>
#include <sunnonlinsol/sunnonlinsol_newton.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "integrate/integrator.hpp"
#include "integrate/vector_operations.hpp"
#include "linear/sparse_lu.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

namespace {

class Ida : public Integrator {
public:
    Ida(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation), m_(evaluation.model()), sources_(sources), settings_(settings), n_(m_.n()), size_(std::max<std::size_t>(n_, 1))
    {
        SUNContext_Create(nullptr, &context_);
        y_ = new_fast_vector(static_cast<sunindextype>(size_), context_);
        yp_ = new_fast_vector(static_cast<sunindextype>(size_), context_);
        id_ = new_fast_vector(static_cast<sunindextype>(size_), context_);
        usual_.resize(size_, 1.0);
        for (std::size_t i = 0; i < size_; ++i) {
            // all that is a state at times stays in the error test, so that its history is good when it becomes one
            bool tested = n_ == 0 || m_.form.z[i].kind == ZEntry::Kind::state || m_.form.z[i].kind == ZEntry::Kind::candidate;
            NV_Ith_S(id_, i) = tested ? 1 : 0;
            if (i < n_) usual_[i] = m_.form.z[i].usual;
        }
        crossings_.assign(n_root_functions(m_), 0);
        by_z_.resize(m_.pattern.n_entries());
        if (settings_.jacobian == IntegratorSettings::Jacobian::grouped_columns) group_columns();
    }
    ~Ida() override
    {
        close();
        N_VDestroy(y_);
        N_VDestroy(yp_);
        N_VDestroy(id_);
        SUNContext_Free(&context_);
    }
    Ida(const Ida&) = delete;
    Ida& operator=(const Ida&) = delete;

    void restart(const State& s) override
    {
        time_ = s.time;
        for (std::size_t i = 0; i < n_; ++i) {
            NV_Ith_S(y_, i) = s.z[i];
            NV_Ith_S(yp_, i) = s.rates[i];
        }
        if (n_ == 0) NV_Ith_S(y_, 0) = NV_Ith_S(yp_, 0) = 0;
        if (memory_ == nullptr)
            open();
        else {
            gather();
            IDAReInit(memory_, time_, y_, yp_);
        }
    }

    void states_changed() override { matrix_is_wrong_ = true; }

    Stopped step(double target) override
    {
        IDASetStopTime(memory_, target);
        double before = time_;
        int flag = IDASolve(memory_, target, &time_, y_, yp_, IDA_ONE_STEP);
        grow_usual();
        if (flag == IDA_ROOT_RETURN) {
            IDAGetRootInfo(memory_, crossings_.data());
            return Stopped::root;
        }
        if (flag == IDA_TSTOP_RETURN) return Stopped::target;
        if (flag < 0) fail(flag);
        // steps that no longer move the time end a run that would go on for ever
        stuck_ = time_ - before <= 1e-14 * std::abs(time_) ? stuck_ + 1 : 0;
        if (stuck_ > 30) fail(IDA_ERR_FAIL);
        return Stopped::stepped;
    }

    double time() const override { return time_; }

    void interpolate(double t, State& s) override
    {
        s.time = t;
        if (n_ == 0) return;
        N_Vector at = N_VClone(y_);
        IDAGetDky(memory_, t, 0, at);
        std::copy_n(NV_DATA_S(at), n_, s.z.begin());
        IDAGetDky(memory_, t, 1, at);
        std::copy_n(NV_DATA_S(at), n_, s.rates.begin());
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
        if (memory_ == nullptr || n_ == 0) return order;
        N_Vector error = N_VClone(y_), weight = N_VClone(y_);
        IDAGetEstLocalErrors(memory_, error);
        IDAGetErrWeights(memory_, weight);
        for (std::size_t i = 0; i < n_; ++i) order.push_back(i);
        std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return std::abs(NV_Ith_S(error, a) * NV_Ith_S(weight, a)) > std::abs(NV_Ith_S(error, b) * NV_Ith_S(weight, b));
        });
        N_VDestroy(error);
        N_VDestroy(weight);
        return order;
    }

private:
    void open()
    {
        memory_ = IDACreate(context_);
        IDASetErrHandlerFn(
            memory_, [](int, const char*, const char*, char*, void*) {}, nullptr);
        IDAInit(memory_, residual_callback, time_, y_, yp_);
        IDASetUserData(memory_, this);
        IDAWFtolerances(memory_, weights_callback);
        IDASetId(memory_, id_);
        IDASetSuppressAlg(memory_, SUNTRUE);
        IDASetMaxNumSteps(memory_, -1);
        std::size_t entries = std::max<std::size_t>(m_.pattern.n_entries(), 1);
        matrix_ = SUNSparseMatrix(static_cast<sunindextype>(size_), static_cast<sunindextype>(size_), static_cast<sunindextype>(entries), CSC_MAT, context_);
        open_linear_solver();
        IDASetLinearSolver(memory_, solver_, matrix_);
        IDASetJacFn(memory_, jacobian_callback);
        open_newton();
        if (!crossings_.empty()) IDARootInit(memory_, static_cast<int>(crossings_.size()), root_callback);
    }

    // Our own factorisation behind SUNDIALS' linear solver interface: unlike its KLU module it falls back from old pivots to new
    // ones within one call, which a change of states needs.
    void open_linear_solver()
    {
        lu_ = std::make_unique<SparseLU>(n_ == 0 ? single_entry() : m_.pattern);
        solver_ = SUNLinSolNewEmpty(context_);
        solver_->content = this;
        solver_->ops->gettype = [](SUNLinearSolver) { return SUNLINEARSOLVER_DIRECT; };
        solver_->ops->setup = [](SUNLinearSolver s, SUNMatrix a) {
            auto& self = *static_cast<Ida*>(s->content);
            const double* data = SUNSparseMatrix_Data(a);
            Stopwatch watch(self.e_.shares.algebra);
            self.matrix_values_.assign(data, data + self.lu_->n_entries());
            return self.lu_->factor(self.matrix_values_) ? 0 : 1;
        };
        solver_->ops->solve = [](SUNLinearSolver s, SUNMatrix, N_Vector x, N_Vector b, double) {
            auto& self = *static_cast<Ida*>(s->content);
            Stopwatch watch(self.e_.shares.algebra);
            std::copy_n(NV_DATA_S(b), self.size_, NV_DATA_S(x));
            self.lu_->solve(NV_DATA_S(x));
            return 0;
        };
        solver_->ops->free = [](SUNLinearSolver s) {
            s->content = nullptr;
            SUNLinSolFreeEmpty(s);
            return 0;
        };
    }
    // SUNDIALS' Newton iteration, asked for a new matrix at once where an old one is known to be wrong.
    void open_newton()
    {
        newton_ = SUNNonlinSol_Newton(y_, context_);
        newton_solve_ = newton_->ops->solve;
        newton_->ops->solve = [](SUNNonlinearSolver n, N_Vector y0, N_Vector y, N_Vector w, double tolerance, sunbooleantype setup, void* ida) {
            void* data = nullptr;
            IDAGetUserData(ida, &data);
            auto& self = *static_cast<Ida*>(data);
            bool anew = std::exchange(self.matrix_is_wrong_, false);
            return self.newton_solve_(n, y0, y, w, tolerance, setup || anew ? SUNTRUE : SUNFALSE, ida);
        };
        IDASetNonlinearSolver(memory_, newton_);
        IDASetMaxNonlinIters(memory_, 5);
    }
    static SparsePattern single_entry()
    {
        SparsePattern p;
        p.n_columns = 1;
        p.starts = {0, 1};
        p.rows = {0};
        return p;
    }

    void close()
    {
        if (memory_ != nullptr) IDAFree(&memory_);
        if (newton_ != nullptr) SUNNonlinSolFree(newton_);
        if (solver_ != nullptr) SUNLinSolFree(solver_);
        if (matrix_ != nullptr) SUNMatDestroy(matrix_);
    }

    void add_counts(StepCounts& c) const
    {
        if (memory_ == nullptr) return;
        long steps = 0, residuals = 0, setups = 0, errors = 0, failures = 0;
        int order_last = 0, order_now = 0;
        double first = 0, last = 0, now = 0, t = 0;
        IDAGetIntegratorStats(memory_, &steps, &residuals, &setups, &errors, &order_last, &order_now, &first, &last, &now, &t);
        IDAGetNumNonlinSolvConvFails(memory_, &failures);
        long jacobians = 0;
        IDAGetNumJacEvals(memory_, &jacobians);
        c.steps += static_cast<std::size_t>(steps);
        c.residuals += static_cast<std::size_t>(residuals);
        c.jacobians += static_cast<std::size_t>(jacobians);
        c.error_failures += static_cast<std::size_t>(errors);
        c.convergence_failures += static_cast<std::size_t>(failures);
        c.last_order = order_last;
        c.last_step = last;
    }
    void gather() { add_counts(total_); }

    // usual sizes grow with the largest value seen, so that a quantity much larger than expected is not asked for more digits
    void grow_usual()
    {
        for (std::size_t i = 0; i < n_; ++i) usual_[i] = std::max(usual_[i], std::abs(NV_Ith_S(y_, i)));
    }

    static int weights_callback(N_Vector y, N_Vector w, void* self)
    {
        auto& s = *static_cast<Ida*>(self);
        double tolerance = s.settings_.tolerance;
        for (std::size_t i = 0; i < s.size_; ++i) NV_Ith_S(w, i) = 1 / (tolerance * (std::abs(NV_Ith_S(y, i)) + s.usual_[i]));
        return 0;
    }

    static int residual_callback(double t, N_Vector y, N_Vector yp, N_Vector r, void* self)
    {
        auto& s = *static_cast<Ida*>(self);
        if (s.n_ == 0) {
            NV_Ith_S(r, 0) = NV_Ith_S(yp, 0);
            return 0;
        }
        s.e_.at(t, NV_DATA_S(y), NV_DATA_S(yp));
        if (s.e_.residual(NV_DATA_S(r))) return 0;
        s.not_finite_.remember(NV_DATA_S(r), s.n_, t, NV_DATA_S(y), NV_DATA_S(yp));
        return 1;  // recoverable: a smaller step may stay where the equations have values
    }

    static int root_callback(double t, N_Vector y, N_Vector yp, double* g, void* self)
    {
        auto& s = *static_cast<Ida*>(self);
        s.e_.at(t, NV_DATA_S(y), NV_DATA_S(yp));
        root_functions(s.e_, g);
        return 0;
    }

    static int jacobian_callback(double t, double cj, N_Vector y, N_Vector yp, N_Vector r, SUNMatrix j, void* self, N_Vector, N_Vector, N_Vector)
    {
        auto& s = *static_cast<Ida*>(self);
        const SparsePattern& p = s.m_.pattern;
        auto* starts = SUNSparseMatrix_IndexPointers(j);
        auto* rows = SUNSparseMatrix_IndexValues(j);
        double* values = SUNSparseMatrix_Data(j);
        if (s.n_ == 0) {
            starts[0] = 0;
            starts[1] = 1;
            rows[0] = 0;
            values[0] = cj;
            return 0;
        }
        std::copy(p.starts.begin(), p.starts.end(), starts);
        std::copy(p.rows.begin(), p.rows.end(), rows);
        if (s.settings_.jacobian != IntegratorSettings::Jacobian::exact) return s.difference(t, cj, y, yp, r, values);
        s.e_.at(t, NV_DATA_S(y), NV_DATA_S(yp));
        s.e_.jacobian(s.by_z_, s.by_rate_);
        for (std::size_t k = 0; k < p.n_entries(); ++k) {
            values[k] = s.by_z_[k] + cj * s.by_rate_[k];
            if (!std::isfinite(values[k])) return 1;
        }
        return 0;
    }

    // Columns that share no row can be shifted together (Curtis, Powell and Reid, 1974, IMA J. Appl. Math. 13, 117-119).
    void group_columns()
    {
        const SparsePattern& p = m_.pattern;
        std::vector<std::vector<char>> rows_used;
        group_.assign(n_, 0);
        for (std::uint32_t c = 0; c < n_; ++c) {
            std::size_t g = 0;
            for (;; ++g) {
                if (g == rows_used.size()) rows_used.emplace_back(n_, 0);
                bool free = true;
                for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k) free &= !rows_used[g][static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])];
                if (free) break;
            }
            for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k) rows_used[g][static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])] = 1;
            group_[c] = g;
        }
        n_groups_ = rows_used.size();
    }

    int difference(double t, double cj, N_Vector y, N_Vector yp, N_Vector r, double* values)
    {
        const SparsePattern& p = m_.pattern;
        bool grouped = settings_.jacobian == IntegratorSettings::Jacobian::grouped_columns;
        std::size_t n_shifts = grouped ? n_groups_ : n_;
        std::vector<double> z(NV_DATA_S(y), NV_DATA_S(y) + n_), rates(NV_DATA_S(yp), NV_DATA_S(yp) + n_), f(n_), width(n_);
        for (std::size_t shift = 0; shift < n_shifts; ++shift) {
            auto mine = [&](std::size_t c) { return grouped ? group_[c] == shift : c == shift; };
            for (std::size_t c = 0; c < n_; ++c) {
                if (!mine(c)) continue;
                width[c] = 1.5e-8 * std::max(std::abs(z[c]), usual_[c]);
                z[c] += width[c];
                rates[c] += cj * width[c];
                if (!grouped) break;
            }
            e_.at(t, z.data(), rates.data());
            if (!e_.residual(f.data())) return 1;
            for (std::size_t c = grouped ? 0 : shift; c < (grouped ? n_ : shift + 1); ++c) {
                if (!mine(c)) continue;
                for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k) {
                    auto row = static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)]);
                    values[k] = (f[row] - NV_Ith_S(r, row)) / width[c];
                }
                z[c] = NV_Ith_S(y, c);
                rates[c] = NV_Ith_S(yp, c);
            }
        }
        return 0;
    }

    [[noreturn]] void fail(int flag)
    {
        std::string cause;
        switch (flag) {
            case IDA_ERR_FAIL:
                cause = "the error of a step stays too large however small the step";
                break;
            case IDA_CONV_FAIL:
            case IDA_REP_RES_ERR:
            case IDA_RES_FAIL:
                cause = "the equations of a step cannot be solved however small the step";
                break;
            case IDA_LSETUP_FAIL:
            case IDA_LSOLVE_FAIL:
                cause = "the equations lose their rank";
                break;
            case IDA_TOO_MUCH_ACC:
                cause = "the tolerance asks for more digits than there are";
                break;
            case IDA_RTFUNC_FAIL:
                cause = "a condition has no value";
                break;
            default:
                cause = fmt::format("the integrator stopped ({})", flag);
                break;
        }
        throw NumericFailure("run-failed", describe_failed_step(e_, sources_, time_, cause, not_finite_, worst(), NV_DATA_S(y_)));
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    std::size_t n_, size_;
    SUNContext context_ = nullptr;
    N_Vector y_ = nullptr, yp_ = nullptr, id_ = nullptr;
    SUNMatrix matrix_ = nullptr;
    SUNLinearSolver solver_ = nullptr;
    SUNNonlinearSolver newton_ = nullptr;
    int (*newton_solve_)(SUNNonlinearSolver, N_Vector, N_Vector, N_Vector, double, sunbooleantype, void*) = nullptr;
    bool matrix_is_wrong_ = false;
    std::unique_ptr<SparseLU> lu_;
    std::vector<double> matrix_values_;
    void* memory_ = nullptr;
    double time_ = 0;
    std::vector<double> usual_, by_z_, by_rate_;
    std::vector<int> crossings_;
    std::vector<std::size_t> group_;
    std::size_t n_groups_ = 0;
    StepCounts total_;
    int stuck_ = 0;
    NotFinitePoint not_finite_;
};

}  // namespace

std::unique_ptr<Integrator> make_ida(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<Ida>(evaluation, sources, settings);
}

}  // namespace netloop
