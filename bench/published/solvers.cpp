// SPDX-License-Identifier: Apache-2.0
#include "solvers.hpp"

#include <cvode/cvode.h>
#include <cvode/cvode_ls.h>
#include <ida/ida.h>
#include <ida/ida_ls.h>
#include <nvector/nvector_serial.h>
#include <sundials/sundials_context.h>
#include <sundials/sundials_matrix.h>
#include <sunnonlinsol/sunnonlinsol_fixedpoint.h>

#include <algorithm>
#include <boost/numeric/odeint.hpp>
#include <boost/numeric/ublas/matrix.hpp>
#include <boost/numeric/ublas/vector.hpp>
#include <chrono>

#include "elimination.hpp"
#include "integrate/vector_operations.hpp"

namespace published {
namespace {

constexpr double kPatience = 20;  // s
constexpr long kMostSteps = 3000000;

struct Work {
    const Problem* p = nullptr;
    Elimination lu;
    std::vector<double> jacobian;
    std::chrono::steady_clock::time_point give_up;
    bool late() const { return std::chrono::steady_clock::now() > give_up; }
};

std::size_t entries(const Problem& p)
{
    return p.n * (p.band == 0 ? p.n : 2 * p.band + 1);
}

// --- SUNDIALS. The matrix is held by Work: to SUNDIALS it is a handle.

SUNMatrix handle(Work& w, SUNContext context)
{
    SUNMatrix m = SUNMatNewEmpty(context);
    m->content = &w;
    m->ops->getid = [](SUNMatrix) { return SUNMATRIX_CUSTOM; };
    m->ops->clone = [](SUNMatrix a) {
        SUNMatrix b = SUNMatNewEmpty(a->sunctx);
        SUNMatCopyOps(a, b);
        b->content = a->content;
        return b;
    };
    m->ops->destroy = [](SUNMatrix a) { SUNMatFreeEmpty(a); };
    m->ops->zero = [](SUNMatrix) { return 0; };
    m->ops->copy = [](SUNMatrix, SUNMatrix) { return 0; };
    m->ops->scaleaddi = [](realtype, SUNMatrix) { return -1; };
    return m;
}

SUNLinearSolver eliminating(Work& w, SUNContext context)
{
    SUNLinearSolver s = SUNLinSolNewEmpty(context);
    s->content = &w;
    s->ops->gettype = [](SUNLinearSolver) { return SUNLINEARSOLVER_DIRECT; };
    s->ops->initialize = [](SUNLinearSolver) { return 0; };
    s->ops->setup = [](SUNLinearSolver l, SUNMatrix) { return static_cast<Work*>(l->content)->lu.factor() ? 0 : 1; };
    s->ops->solve = [](SUNLinearSolver l, SUNMatrix, N_Vector x, N_Vector b, realtype) {
        double *to = N_VGetArrayPointer(x), *from = N_VGetArrayPointer(b);
        if (to != from) std::copy(from, from + static_cast<Work*>(l->content)->lu.n, to);
        static_cast<Work*>(l->content)->lu.solve(to);
        return 0;
    };
    s->ops->free = [](SUNLinearSolver l) {
        SUNLinSolFreeEmpty(l);
        return 0;
    };
    return s;
}

void prepare(Work& w, const Problem& p)
{
    w.p = &p;
    w.lu.n = p.n;
    w.lu.band = p.band;
    w.lu.pivots.resize(p.n);
    w.lu.matrix.resize(entries(p));
    w.jacobian.resize(entries(p));
    w.give_up = std::chrono::steady_clock::now() + std::chrono::milliseconds(static_cast<long>(1e3 * kPatience));
}

// From time to time, as long as it gets on and anyone waits for it. `advance` says how it went; `tired`: that it would like to be asked again.
template <typename Advance>
void go_through(Solved& r, const Work& w, const std::vector<double>& times, N_Vector y, int tired, Advance advance)
{
    auto begin = std::chrono::steady_clock::now();
    r.done = true;
    for (double t : times) {
        double reached = 0;
        int flag = 0;
        do {
            flag = advance(t, reached);
        } while (flag == tired && !w.late() && r.steps < kMostSteps);
        if (flag < 0) {
            r.done = false;
            break;
        }
        r.rows.emplace_back(N_VGetArrayPointer(y), N_VGetArrayPointer(y) + w.p->n);
    }
    r.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

int cvode_rates(realtype t, N_Vector y, N_Vector dy, void* data)
{
    const Work& w = *static_cast<Work*>(data);
    w.p->rates(t, N_VGetArrayPointer(y), N_VGetArrayPointer(dy));
    return 0;
}

// I - gamma J
int cvode_matrix(realtype t, N_Vector y, N_Vector, SUNMatrix, booleantype still_good, booleantype* renewed, realtype gamma, void* data, N_Vector, N_Vector,
                 N_Vector)
{
    Work& w = *static_cast<Work*>(data);
    if (!still_good) w.p->jacobian(t, N_VGetArrayPointer(y), w.jacobian.data());
    *renewed = !still_good;
    for (std::size_t k = 0; k < w.jacobian.size(); ++k) w.lu.matrix[k] = -gamma * w.jacobian[k];
    std::size_t width = w.p->band == 0 ? w.p->n : 2 * w.p->band + 1;
    for (std::size_t i = 0; i < w.p->n; ++i) w.lu.matrix[i * width + (w.p->band == 0 ? i : w.p->band)] += 1;
    return 0;
}

Solved cvode(const Problem& p, double tolerance, const std::vector<double>& times, bool adams, int renew)
{
    Solved r;
    Work w;
    prepare(w, p);
    SUNContext context = nullptr;
    SUNContext_Create(nullptr, &context);
    auto n = static_cast<sunindextype>(p.n);
    N_Vector y = netloop::new_fast_vector(n, context), least = netloop::new_fast_vector(n, context);
    std::copy(p.start.begin(), p.start.end(), N_VGetArrayPointer(y));
    for (std::size_t i = 0; i < p.n; ++i) N_VGetArrayPointer(least)[i] = tolerance * p.usual[i];
    void* memory = CVodeCreate(adams ? CV_ADAMS : CV_BDF, context);
    CVodeSetErrHandlerFn(
        memory, [](int, const char*, const char*, char*, void*) {}, nullptr);
    CVodeInit(memory, cvode_rates, 0, y);
    CVodeSVtolerances(memory, tolerance, least);
    CVodeSetUserData(memory, &w);
    CVodeSetMaxNumSteps(memory, 20000);
    SUNMatrix matrix = nullptr;
    SUNLinearSolver linear = nullptr;
    SUNNonlinearSolver iteration = nullptr;
    if (adams) {
        iteration = SUNNonlinSol_FixedPoint(y, 0, context);
        CVodeSetNonlinearSolver(memory, iteration);
    } else {
        matrix = handle(w, context);
        linear = eliminating(w, context);
        CVodeSetLinearSolver(memory, linear, matrix);
        CVodeSetLinSysFn(memory, cvode_matrix);
        if (renew > 0) CVodeSetLSetupFrequency(memory, renew), CVodeSetJacEvalFrequency(memory, renew);
    }
    go_through(r, w, times, y, CV_TOO_MUCH_WORK, [&](double t, double& reached) {
        int flag = CVode(memory, t, y, &reached, CV_NORMAL);
        CVodeGetNumSteps(memory, &r.steps);
        return flag;
    });
    CVodeFree(&memory);
    if (linear != nullptr) SUNLinSolFree(linear);
    if (matrix != nullptr) SUNMatDestroy(matrix);
    if (iteration != nullptr) SUNNonlinSolFree(iteration);
    N_VDestroy(y);
    N_VDestroy(least);
    SUNContext_Free(&context);
    return r;
}

int ida_residual(realtype t, N_Vector y, N_Vector dy, N_Vector f, void* data)
{
    const Work& w = *static_cast<Work*>(data);
    const double *z = N_VGetArrayPointer(y), *rate = N_VGetArrayPointer(dy);
    double* to = N_VGetArrayPointer(f);
    if (!w.p->is_explicit()) {
        w.p->residual(t, z, rate, to);
        return 0;
    }
    w.p->rates(t, z, to);
    for (std::size_t i = 0; i < w.p->n; ++i) to[i] -= rate[i];
    return 0;
}

int ida_matrix(realtype t, realtype cj, N_Vector y, N_Vector dy, N_Vector, SUNMatrix, void* data, N_Vector, N_Vector, N_Vector)
{
    Work& w = *static_cast<Work*>(data);
    if (!w.p->is_explicit()) {
        w.p->iteration_matrix(t, N_VGetArrayPointer(y), N_VGetArrayPointer(dy), cj, w.lu.matrix.data());
        return 0;
    }
    w.p->jacobian(t, N_VGetArrayPointer(y), w.lu.matrix.data());
    std::size_t width = w.p->band == 0 ? w.p->n : 2 * w.p->band + 1;
    for (std::size_t i = 0; i < w.p->n; ++i) w.lu.matrix[i * width + (w.p->band == 0 ? i : w.p->band)] -= cj;
    return 0;
}

Solved ida(const Problem& p, double tolerance, const std::vector<double>& times)
{
    Solved r;
    Work w;
    prepare(w, p);
    SUNContext context = nullptr;
    SUNContext_Create(nullptr, &context);
    auto n = static_cast<sunindextype>(p.n);
    N_Vector y = netloop::new_fast_vector(n, context), dy = netloop::new_fast_vector(n, context), least = netloop::new_fast_vector(n, context);
    std::copy(p.start.begin(), p.start.end(), N_VGetArrayPointer(y));
    if (p.is_explicit())
        p.rates(0, p.start.data(), N_VGetArrayPointer(dy));
    else
        std::copy(p.start_rates.begin(), p.start_rates.end(), N_VGetArrayPointer(dy));
    for (std::size_t i = 0; i < p.n; ++i) N_VGetArrayPointer(least)[i] = tolerance * p.usual[i];
    void* memory = IDACreate(context);
    IDASetErrHandlerFn(
        memory, [](int, const char*, const char*, char*, void*) {}, nullptr);
    IDAInit(memory, ida_residual, 0, y, dy);
    IDASVtolerances(memory, tolerance, least);
    IDASetUserData(memory, &w);
    IDASetMaxNumSteps(memory, 20000);
    SUNMatrix matrix = handle(w, context);
    SUNLinearSolver linear = eliminating(w, context);
    IDASetLinearSolver(memory, linear, matrix);
    IDASetJacFn(memory, ida_matrix);
    go_through(r, w, times, y, IDA_TOO_MUCH_WORK, [&](double t, double& reached) {
        int flag = IDASolve(memory, t, &reached, y, dy, IDA_NORMAL);
        IDAGetNumSteps(memory, &r.steps);
        return flag;
    });
    IDAFree(&memory);
    SUNLinSolFree(linear);
    SUNMatDestroy(matrix);
    for (N_Vector v : {y, dy, least}) N_VDestroy(v);
    SUNContext_Free(&context);
    return r;
}

// --- Boost.odeint

namespace odeint = boost::numeric::odeint;
using State = std::vector<double>;

struct TooMany {};

template <class Stepper>
Solved by_odeint(const Problem& p, const std::vector<double>& times, Stepper stepper)
{
    Solved r;
    auto give_up = std::chrono::steady_clock::now() + std::chrono::milliseconds(static_cast<long>(1e3 * kPatience));
    long calls = 0;
    auto rates = [&](const State& y, State& dy, double t) {
        if (++calls % 4096 == 0 && std::chrono::steady_clock::now() > give_up) throw TooMany{};
        p.rates(t, y.data(), dy.data());
    };
    State y = p.start;
    std::vector<double> all{0};
    all.insert(all.end(), times.begin(), times.end());
    auto begin = std::chrono::steady_clock::now();
    try {
        odeint::integrate_times(stepper, rates, y, all.begin(), all.end(), 1e-6 * p.stop, [&](const State& s, double t) {
            if (t > 0) r.rows.push_back(s);
        });
        r.done = r.rows.size() == times.size();
    } catch (const TooMany&) {
    } catch (const std::exception&) {  // no step small enough
    }
    r.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    r.steps = calls;
    return r;
}

double least_of(const Problem& p, double tolerance)  // odeint takes one number for all states
{
    return tolerance * *std::min_element(p.usual.begin(), p.usual.end());
}

Solved rosenbrock(const Problem& p, double tolerance, const std::vector<double>& times)
{
    namespace ublas = boost::numeric::ublas;
    using Vector = ublas::vector<double>;
    using Matrix = ublas::matrix<double>;
    Solved r;
    auto give_up = std::chrono::steady_clock::now() + std::chrono::milliseconds(static_cast<long>(1e3 * kPatience));
    std::vector<double> columns(p.n * p.n);
    auto rates = [&](const Vector& y, Vector& dy, double t) { p.rates(t, &y[0], &dy[0]); };
    auto jacobian = [&](const Vector& y, Matrix& j, double t, Vector& by_time) {
        if (std::chrono::steady_clock::now() > give_up) throw TooMany{};
        p.jacobian(t, &y[0], columns.data());
        for (std::size_t c = 0; c < p.n; ++c)
            for (std::size_t k = 0; k < p.n; ++k) j(k, c) = columns[c * p.n + k];
        double dt = 1e-7 * p.stop;
        Vector later(p.n), earlier(p.n);
        p.rates(t + dt, &y[0], &later[0]);
        p.rates(t - dt, &y[0], &earlier[0]);
        by_time = (later - earlier) / (2 * dt);
        ++r.steps;
    };
    Vector y(p.n);
    std::copy(p.start.begin(), p.start.end(), y.begin());
    std::vector<double> all{0};
    all.insert(all.end(), times.begin(), times.end());
    auto begin = std::chrono::steady_clock::now();
    try {
        auto stepper = odeint::make_dense_output<odeint::rosenbrock4<double>>(least_of(p, tolerance), tolerance);
        odeint::integrate_times(stepper, std::make_pair(rates, jacobian), y, all.begin(), all.end(), 1e-9 * p.stop, [&](const Vector& s, double t) {
            if (t > 0) r.rows.emplace_back(s.begin(), s.end());
        });
        r.done = r.rows.size() == times.size();
    } catch (const TooMany&) {
    } catch (const std::exception&) {
    }
    r.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    return r;
}

bool explicit_one(const Problem& p)
{
    return p.is_explicit();
}
bool explicit_small(const Problem& p)
{
    return p.is_explicit() && p.band == 0;
}

}  // namespace

const std::vector<Way>& ways()
{
    static const std::vector<Way> all{
        {"IDA", ida, true},
        {"CVODE", [](const Problem& p, double tolerance, const std::vector<double>& times) { return cvode(p, tolerance, times, false, 0); }, true,
         explicit_one},
        {"CVODE renewed", [](const Problem& p, double tolerance, const std::vector<double>& times) { return cvode(p, tolerance, times, false, 5); }, false,
         explicit_one},
        {"CVODE Adams", [](const Problem& p, double tolerance, const std::vector<double>& times) { return cvode(p, tolerance, times, true, 0); }, false,
         explicit_one},
        {"odeint dopri5",
         [](const Problem& p, double tolerance, const std::vector<double>& times) {
             return by_odeint(p, times, odeint::make_dense_output<odeint::runge_kutta_dopri5<State>>(least_of(p, tolerance), tolerance));
         },
         false, explicit_one},
        {"odeint Bulirsch-Stoer",
         [](const Problem& p, double tolerance, const std::vector<double>& times) {
             return by_odeint(p, times, odeint::bulirsch_stoer_dense_out<State>(least_of(p, tolerance), tolerance));
         },
         false, explicit_one},
        {"odeint Rosenbrock", rosenbrock, false, explicit_small},
    };
    return all;
}

Solved reference(const Problem& p, const std::vector<double>& times)
{
    if (!p.is_explicit()) {
        Solved best;
        for (double tolerance = 1e-12; !best.done && tolerance < 1e-8; tolerance *= 3) best = ida(p, tolerance, times);
        return best;
    }
    using Fine = std::vector<long double>;
    Fine y(p.start.begin(), p.start.end()), all{0};
    all.insert(all.end(), times.begin(), times.end());
    auto give_up = std::chrono::steady_clock::now() + std::chrono::seconds(static_cast<long>(kPatience));
    long calls = 0;
    auto rates = [&](const Fine& z, Fine& dz, long double t) {
        if (++calls % 4096 == 0 && std::chrono::steady_clock::now() > give_up) throw TooMany{};
        p.fine_rates(t, z.data(), dz.data());
    };
    Solved r;
    try {
        auto stepper = odeint::make_controlled<odeint::runge_kutta_fehlberg78<Fine, long double>>(static_cast<long double>(least_of(p, 1e-16)), 1e-16L);
        odeint::integrate_times(stepper, rates, y, all.begin(), all.end(), static_cast<long double>(1e-8 * p.stop), [&](const Fine& z, long double t) {
            if (t > 0) r.rows.emplace_back(z.begin(), z.end());
        });
        r.done = r.rows.size() == times.size();
        for (const auto& row : r.rows)
            for (double v : row) r.done = r.done && std::isfinite(v);
    } catch (const TooMany&) {
    }
    return r.done ? r : cvode(p, 3e-13, times, false, 5);
}

}  // namespace published
