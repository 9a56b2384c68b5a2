// SPDX-License-Identifier: Apache-2.0
// Units of FMI 2.0.
#include <fmt/format.h>

#include <cstdarg>
#include <cstdio>
#include <cstdlib>

#include "foreign/unit_archive.hpp"
#include "foreign/unit_calls.hpp"

namespace netloop {
namespace {

using Component = void*;
using Status = int;
struct Callbacks {
    void (*logger)(void*, const char*, Status, const char*, const char*, ...);
    void* (*allocate)(std::size_t, std::size_t);
    void (*release)(void*);
    void (*step_finished)(void*, Status);
    void* environment;
};
struct EventInfo {
    int again, terminate, nominals_changed, values_changed, next_defined;
    double next;
};

void hear(void* environment, const char*, Status status, const char*, const char* form, ...)
{
    if (environment == nullptr || form == nullptr || status == 0) return;
    char text[512];
    va_list list;
    va_start(list, form);
    std::vsnprintf(text, sizeof text, form, list);
    va_end(list);
    static_cast<UnitWords*>(environment)->hear(text);
}

// What every unit has to have, and what only one kind has.
struct Functions {
    template <typename F>
    void take(const UnitBinary& b, F& f, const char* name)
    {
        f = reinterpret_cast<F>(b.function(name));
    }
    Functions(const UnitBinary& b, UnitKind kind)
    {
        take(b, instantiate, "fmi2Instantiate");
        take(b, free_instance, "fmi2FreeInstance");
        take(b, setup, "fmi2SetupExperiment");
        take(b, enter_initialization, "fmi2EnterInitializationMode");
        take(b, exit_initialization, "fmi2ExitInitializationMode");
        take(b, terminate, "fmi2Terminate");
        take(b, get_real, "fmi2GetReal");
        take(b, set_real, "fmi2SetReal");
        take(b, get_integer, "fmi2GetInteger");
        take(b, set_integer, "fmi2SetInteger");
        take(b, get_boolean, "fmi2GetBoolean");
        take(b, set_boolean, "fmi2SetBoolean");
        if (kind == UnitKind::cosimulation) {
            take(b, do_step, "fmi2DoStep");
            take(b, boolean_status, "fmi2GetBooleanStatus");
            return;
        }
        take(b, enter_event, "fmi2EnterEventMode");
        take(b, new_discrete_states, "fmi2NewDiscreteStates");
        take(b, enter_continuous, "fmi2EnterContinuousTimeMode");
        take(b, completed, "fmi2CompletedIntegratorStep");
        take(b, set_time, "fmi2SetTime");
        take(b, set_states, "fmi2SetContinuousStates");
        take(b, get_states, "fmi2GetContinuousStates");
        take(b, get_rates, "fmi2GetDerivatives");
        take(b, get_indicators, "fmi2GetEventIndicators");
    }
    Component (*instantiate)(const char*, int, const char*, const char*, const Callbacks*, int, int) = nullptr;
    void (*free_instance)(Component) = nullptr;
    Status (*setup)(Component, int, double, double, int, double) = nullptr;
    Status (*enter_initialization)(Component) = nullptr;
    Status (*exit_initialization)(Component) = nullptr;
    Status (*terminate)(Component) = nullptr;
    Status (*get_real)(Component, const unsigned*, std::size_t, double*) = nullptr;
    Status (*set_real)(Component, const unsigned*, std::size_t, const double*) = nullptr;
    Status (*get_integer)(Component, const unsigned*, std::size_t, int*) = nullptr;
    Status (*set_integer)(Component, const unsigned*, std::size_t, const int*) = nullptr;
    Status (*get_boolean)(Component, const unsigned*, std::size_t, int*) = nullptr;
    Status (*set_boolean)(Component, const unsigned*, std::size_t, const int*) = nullptr;
    Status (*do_step)(Component, double, double, int) = nullptr;
    Status (*boolean_status)(Component, int, int*) = nullptr;
    Status (*enter_event)(Component) = nullptr;
    Status (*new_discrete_states)(Component, EventInfo*) = nullptr;
    Status (*enter_continuous)(Component) = nullptr;
    Status (*completed)(Component, int, int*, int*) = nullptr;
    Status (*set_time)(Component, double) = nullptr;
    Status (*set_states)(Component, const double*, std::size_t) = nullptr;
    Status (*get_states)(Component, double*, std::size_t) = nullptr;
    Status (*get_rates)(Component, double*, std::size_t) = nullptr;
    Status (*get_indicators)(Component, double*, std::size_t) = nullptr;
    Status (*directional)(Component, const unsigned*, std::size_t, const unsigned*, std::size_t, const double*, double*) = nullptr;
};

class Fmi2Calls : public UnitCalls {
public:
    Fmi2Calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance)
        : binary_(unit_binary(folder, 2, kind == UnitKind::exchange ? d.exchange_name : d.cosimulation_name)),
          f_(binary_, kind),
          callbacks_{hear, std::calloc, std::free, nullptr, &words_}
    {
        if (kind == UnitKind::exchange && d.has_directional_exchange) f_.take(binary_, f_.directional, "fmi2GetDirectionalDerivative");
        instance_ = f_.instantiate(instance.c_str(), kind == UnitKind::exchange ? 0 : 1, d.token.c_str(), unit_resources(folder, 2).c_str(), &callbacks_, 0, 1);
        if (instance_ == nullptr) {
            std::string said = words_.take();
            throw UnitProblemFound(fmt::format("fmi2Instantiate makes no instance{}{}", said.empty() ? "" : ": ", said));
        }
    }
    ~Fmi2Calls() override
    {
        if (begun_ && !broken_) f_.terminate(instance_);
        f_.free_instance(instance_);
    }
    Fmi2Calls(const Fmi2Calls&) = delete;
    Fmi2Calls& operator=(const Fmi2Calls&) = delete;

    void set(const UnitAccess& which, const double* values) override
    {
        for (const UnitAccess::Group& g : which.groups) {
            std::size_t n = g.references.size();
            if (g.type == ForeignType::float64) {
                gather(g, values);
                look("fmi2SetReal", f_.set_real(instance_, g.references.data(), n, reals_.data()));
                continue;
            }
            whole_.resize(n);
            for (std::size_t k = 0; k < n; ++k) whole_[k] = g.type == ForeignType::boolean ? values[g.places[k]] > 0.5 : static_cast<int>(values[g.places[k]]);
            if (g.type == ForeignType::boolean)
                look("fmi2SetBoolean", f_.set_boolean(instance_, g.references.data(), n, whole_.data()));
            else
                look("fmi2SetInteger", f_.set_integer(instance_, g.references.data(), n, whole_.data()));
        }
    }
    void get(const UnitAccess& which, double* values) override
    {
        for (const UnitAccess::Group& g : which.groups) {
            std::size_t n = g.references.size();
            if (g.type == ForeignType::float64) {
                reals_.assign(n, 0);
                look("fmi2GetReal", f_.get_real(instance_, g.references.data(), n, reals_.data()));
                for (std::size_t k = 0; k < n; ++k) values[g.places[k]] = reals_[k];
                continue;
            }
            whole_.assign(n, 0);
            if (g.type == ForeignType::boolean)
                look("fmi2GetBoolean", f_.get_boolean(instance_, g.references.data(), n, whole_.data()));
            else
                look("fmi2GetInteger", f_.get_integer(instance_, g.references.data(), n, whole_.data()));
            for (std::size_t k = 0; k < n; ++k) values[g.places[k]] = g.type == ForeignType::boolean ? (whole_[k] != 0 ? 1 : 0) : whole_[k];
        }
    }
    void enter_initialization(double start, double tolerance) override
    {
        look("fmi2SetupExperiment", f_.setup(instance_, tolerance > 0 ? 1 : 0, tolerance, start, 0, 0));
        look("fmi2EnterInitializationMode", f_.enter_initialization(instance_));
    }
    void exit_initialization() override
    {
        look("fmi2ExitInitializationMode", f_.exit_initialization(instance_));
        begun_ = true;
    }
    void enter_event() override { look("fmi2EnterEventMode", f_.enter_event(instance_)); }
    UnitHappened new_discrete_states() override
    {
        EventInfo info{};
        look("fmi2NewDiscreteStates", f_.new_discrete_states(instance_, &info));
        return {info.again != 0, info.terminate != 0, info.values_changed != 0, info.next_defined != 0 ? info.next : HUGE_VAL};
    }
    void enter_continuous() override { look("fmi2EnterContinuousTimeMode", f_.enter_continuous(instance_)); }
    void set_time(double t) override { look("fmi2SetTime", f_.set_time(instance_, t)); }
    void set_states(const double* x, std::size_t n) override { look("fmi2SetContinuousStates", f_.set_states(instance_, x, n)); }
    void get_states(double* x, std::size_t n) override { look("fmi2GetContinuousStates", f_.get_states(instance_, x, n)); }
    void get_rates(double* rates, std::size_t n) override { look("fmi2GetDerivatives", f_.get_rates(instance_, rates, n)); }
    void get_indicators(double* z, std::size_t n) override { look("fmi2GetEventIndicators", f_.get_indicators(instance_, z, n)); }
    bool completed_step(bool& ended) override
    {
        int enter = 0, terminate = 0;
        look("fmi2CompletedIntegratorStep", f_.completed(instance_, 1, &enter, &terminate));
        ended = terminate != 0;
        return enter != 0;
    }
    bool directional(const std::vector<std::uint32_t>& unknown, std::uint32_t known, double* derivatives) override
    {
        if (f_.directional == nullptr) return false;
        const double seed = 1;
        look("fmi2GetDirectionalDerivative", f_.directional(instance_, unknown.data(), unknown.size(), &known, 1, &seed, derivatives));
        return true;
    }
    bool do_step(double t, double step) override
    {
        try {
            look("fmi2DoStep", f_.do_step(instance_, t, step, 1));
            return true;
        } catch (const UnitDiscards&) {
            // an end that the unit wants, or a step that it cannot do
            constexpr int kTerminated = 3;
            int ended = 0;
            if (f_.boolean_status != nullptr && f_.boolean_status(instance_, kTerminated, &ended) == 0 && ended != 0) return false;
            throw;
        }
    }

private:
    void gather(const UnitAccess::Group& g, const double* values)
    {
        reals_.resize(g.places.size());
        for (std::size_t k = 0; k < reals_.size(); ++k) reals_[k] = values[g.places[k]];
    }
    void look(const char* call, Status status)
    {
        broken_ |= status >= 3;
        look_at_status(call, status, words_);
    }

    UnitWords words_;
    UnitBinary binary_;
    Functions f_;
    Callbacks callbacks_;
    Component instance_ = nullptr;
    bool begun_ = false, broken_ = false;
    std::vector<double> reals_;
    std::vector<int> whole_;
};

}  // namespace

std::unique_ptr<UnitCalls> make_fmi2_calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance)
{
    return std::make_unique<Fmi2Calls>(d, folder, kind, instance);
}

}  // namespace netloop
