// SPDX-License-Identifier: Apache-2.0
// A thousand rooms with hysteresis thermostats beside a program written by hand with the same root functions (SUNDIALS CVODE: BDF, diagonal
// Newton matrix by KLU, one root function a room, begun anew behind every switching). Also: a 20 kHz converter and the bridge's cycle.
//   build/release/bench/netloop_switching [rooms]
#include <cvode/cvode.h>
#include <fmt/format.h>
#include <nvector/nvector_serial.h>
#include <sunlinsol/sunlinsol_klu.h>
#include <sunmatrix/sunmatrix_sparse.h>

#include <chrono>
#include <cmath>
#include <cstdlib>
#include <netloop/netloop.hpp>
#include <vector>

#include "../verified.hpp"

namespace {

struct House {
    std::vector<double> capacity;
    std::vector<char> on;
    static constexpr double kOutside = 278.15, kLoss = 100, kPower = 3000, kLow = 292.65, kHigh = 293.65;
    double rate(std::size_t i, double T) const { return ((on[i] != 0 ? kPower : 0) - kLoss * (T - kOutside)) / capacity[i]; }
};

int rates(realtype, N_Vector y, N_Vector f, void* user)
{
    const House& h = *static_cast<House*>(user);
    const double* T = N_VGetArrayPointer(y);
    double* to = N_VGetArrayPointer(f);
    for (std::size_t i = 0; i < h.on.size(); ++i) to[i] = h.rate(i, T[i]);
    return 0;
}

int jacobian(realtype, N_Vector, N_Vector, SUNMatrix J, void* user, N_Vector, N_Vector, N_Vector)
{
    const House& h = *static_cast<House*>(user);
    sunindextype *columns = SUNSparseMatrix_IndexPointers(J), *rows = SUNSparseMatrix_IndexValues(J);
    for (std::size_t i = 0; i < h.on.size(); ++i) {
        columns[i] = rows[i] = static_cast<sunindextype>(i);
        SUNSparseMatrix_Data(J)[i] = -House::kLoss / h.capacity[i];
    }
    columns[h.on.size()] = static_cast<sunindextype>(h.on.size());
    return 0;
}

int limits(realtype, N_Vector y, realtype* g, void* user)
{
    const House& h = *static_cast<House*>(user);
    const double* T = N_VGetArrayPointer(y);
    for (std::size_t i = 0; i < h.on.size(); ++i) g[i] = T[i] - (h.on[i] != 0 ? House::kHigh : House::kLow);
    return 0;
}

struct Outcome {
    double seconds = 0;
    std::size_t switchings = 0, steps = 0;
};

Outcome by_hand(std::size_t n, double stop, double tolerance)
{
    House house;
    for (std::size_t i = 1; i <= n; ++i) house.capacity.push_back((1 + static_cast<double>(i) / static_cast<double>(n)) * 1e6);
    house.on.assign(n, 0);
    auto begin = std::chrono::steady_clock::now();
    SUNContext context = nullptr;
    SUNContext_Create(nullptr, &context);
    auto size = static_cast<sunindextype>(n);
    N_Vector y = N_VNew_Serial(size, context);
    N_VConst(293.15, y);
    void* cvode = CVodeCreate(CV_BDF, context);
    CVodeInit(cvode, rates, 0, y);
    CVodeSStolerances(cvode, tolerance, tolerance * 300);
    CVodeSetUserData(cvode, &house);
    SUNMatrix J = SUNSparseMatrix(size, size, size, CSC_MAT, context);
    SUNLinearSolver solver = SUNLinSol_KLU(y, J, context);
    CVodeSetLinearSolver(cvode, solver, J);
    CVodeSetJacFn(cvode, jacobian);
    CVodeRootInit(cvode, static_cast<int>(n), limits);
    CVodeSetMaxNumSteps(cvode, 100000000);
    Outcome outcome;
    std::vector<int> found(n);
    for (double t = 0; t < stop;) {
        int flag = CVode(cvode, stop, y, &t, CV_NORMAL);
        if (flag < 0) break;
        if (flag != CV_ROOT_RETURN) break;
        CVodeGetRootInfo(cvode, found.data());
        for (std::size_t i = 0; i < n; ++i)
            if (found[i] != 0) house.on[i] ^= 1, ++outcome.switchings;
        long steps = 0;
        CVodeGetNumSteps(cvode, &steps);
        outcome.steps += static_cast<std::size_t>(steps);
        CVodeReInit(cvode, t, y);
    }
    outcome.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    CVodeFree(&cvode);
    SUNLinSolFree(solver);
    SUNMatDestroy(J);
    N_VDestroy(y);
    SUNContext_Free(&context);
    return outcome;
}

Outcome net_loop(std::size_t n, double stop, double tolerance)
{
    netloop::Library library = netloop::Library::standard();
    library.load_text("house.loop",
                      "use control\n component Room { param C : J/K = 1 MJ/K in 1 J/K .. 1e12 J/K ; param outside : degC = 5 degC ; var T : degC init 20 degC "
                      "; part t : Thermostat\n"
                      "T -> t.measured ; C * T' = (if t.heating then 3 kW else 0 W) - 100 W/K * (T - outside) }\n"
                      "system S { option n = " +
                          std::to_string(n) + " ; part room[i in 1 .. n] : Room(C = (1 + i / n) * 1 MJ/K) }");
    netloop::CompiledSystem system = netloop::compile(library);
    netloop::Run run(system);
    netloop::RunOptions options;
    options.stop = stop;
    options.tolerance = tolerance;
    options.keep = {"room[1].T"};
    netloop::run_verified(system, options);
    auto begin = std::chrono::steady_clock::now();
    run.simulate(options);
    Outcome outcome;
    outcome.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    for (const auto& e : run.summary().event_record.kinds) outcome.switchings += e.times.size();
    outcome.steps = run.summary().steps;
    return outcome;
}

std::size_t exact_switchings(std::size_t n, double stop)
{
    std::size_t count = 0;
    for (std::size_t i = 1; i <= n; ++i) {
        double tau = (1 + static_cast<double>(i) / static_cast<double>(n)) * 1e4, t = tau * std::log(15.0 / 14.5);
        double heat = tau * std::log(15.5 / 14.5), cool = tau * std::log(15.5 / 14.5);
        for (bool on = true; t < stop; on = !on) ++count, t += on ? heat : cool;
    }
    return count;
}

void report(const char* name, const std::string& file, const char* scenario)
{
    netloop::Library library = netloop::Library::standard();
    library.load_file(file);
    netloop::CompiledSystem system = netloop::compile(library, {.system = "", .scenario = scenario});
    netloop::Run run(system);
    netloop::RunOptions options;
    options.keep = {"duty", "choke.i"};
    options.keep.resize(1);
    if (std::string(scenario) != "opening") options.keep = {"choke.i"};
    netloop::run_verified(system, options);
    run.simulate(options);
    const netloop::RunSummary& s = run.summary();
    fmt::print("{}: {} events in {:.3f} s, {:.0f} events per second of computing, {:.0f} % of the time in events\n", name, s.events, s.wall_seconds,
               static_cast<double>(s.events) / s.wall_seconds, 100 * s.event_seconds / s.wall_seconds);
}

}  // namespace

int main(int argc, char** argv)
{
    std::size_t rooms = argc > 1 ? static_cast<std::size_t>(std::atoi(argv[1])) : 1000;
    const double day = 86400, tolerance = 1e-6;
    std::size_t exact = exact_switchings(rooms, day);
    Outcome hand = by_hand(rooms, day, tolerance), ours = net_loop(rooms, day, tolerance);
    fmt::print("{} rooms for a day, {} switchings by formula\n", rooms, exact);
    fmt::print("  by hand   {:8.2f} s, {} switchings, {} steps\n", hand.seconds, hand.switchings, hand.steps);
    fmt::print("  Net Loop  {:8.2f} s, {} switchings, {} steps: {:.2f} times by hand\n", ours.seconds, ours.switchings, ours.steps,
               ours.seconds / hand.seconds);
    report("20 kHz converter, 0.1 s", NETLOOP_SOURCE_DIR "/examples/switching/converter.loop", "run_up");
    report("the bridge's cycle", NETLOOP_SOURCE_DIR "/examples/bascule/operation.loop", "opening");
    return 0;
}
