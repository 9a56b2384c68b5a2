// SPDX-License-Identifier: Apache-2.0
// Units of FMI 3.0.
#include <fmt/format.h>

#include <limits>

#include "foreign/unit_archive.hpp"
#include "foreign/unit_calls.hpp"

namespace netloop {
namespace {

using Instance = void*;
using Status = int;
using Log = void (*)(void*, Status, const char*, const char*);
template <typename T>
using Getter = Status (*)(Instance, const std::uint32_t*, std::size_t, T*, std::size_t);
template <typename T>
using Setter = Status (*)(Instance, const std::uint32_t*, std::size_t, const T*, std::size_t);

void hear(void* environment, Status status, const char*, const char* text)
{
    if (environment != nullptr && text != nullptr && status != 0) static_cast<UnitWords*>(environment)->hear(text);
}

class Fmi3Calls : public UnitCalls {
public:
    Fmi3Calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance)
        : binary_(unit_binary(folder, 3, kind == UnitKind::exchange ? d.exchange_name : d.cosimulation_name))
    {
        take(free_instance_, "fmi3FreeInstance");
        take(enter_initialization_, "fmi3EnterInitializationMode");
        take(exit_initialization_, "fmi3ExitInitializationMode");
        take(terminate_, "fmi3Terminate");
        std::string resources = unit_resources(folder, 3);
        if (kind == UnitKind::cosimulation) {
            take(do_step_, "fmi3DoStep");
            Instance (*make)(const char*, const char*, const char*, bool, bool, bool, bool, const std::uint32_t*, std::size_t, void*, Log, void*) = nullptr;
            take(make, "fmi3InstantiateCoSimulation");
            instance_ = make(instance.c_str(), d.token.c_str(), resources.c_str(), false, true, false, false, nullptr, 0, &words_, hear, nullptr);
        } else {
            take(enter_event_, "fmi3EnterEventMode");
            take(update_, "fmi3UpdateDiscreteStates");
            take(enter_continuous_, "fmi3EnterContinuousTimeMode");
            take(completed_, "fmi3CompletedIntegratorStep");
            take(set_time_, "fmi3SetTime");
            take(set_states_, "fmi3SetContinuousStates");
            take(get_states_, "fmi3GetContinuousStates");
            take(get_rates_, "fmi3GetContinuousStateDerivatives");
            take(get_indicators_, "fmi3GetEventIndicators");
            if (d.has_directional_exchange) take(directional_, "fmi3GetDirectionalDerivative");
            Instance (*make)(const char*, const char*, const char*, bool, bool, void*, Log) = nullptr;
            take(make, "fmi3InstantiateModelExchange");
            instance_ = make(instance.c_str(), d.token.c_str(), resources.c_str(), false, true, &words_, hear);
        }
        if (instance_ == nullptr) {
            std::string said = words_.take();
            throw UnitProblemFound(fmt::format("fmi3Instantiate{} makes no instance{}{}", kind == UnitKind::exchange ? "ModelExchange" : "CoSimulation",
                                               said.empty() ? "" : ": ", said));
        }
    }
    ~Fmi3Calls() override
    {
        if (begun_ && !broken_) terminate_(instance_);
        free_instance_(instance_);
    }
    Fmi3Calls(const Fmi3Calls&) = delete;
    Fmi3Calls& operator=(const Fmi3Calls&) = delete;

    void set(const UnitAccess& which, const double* values) override
    {
        for (const UnitAccess::Group& g : which.groups) by_type(g.type, [&](auto sample, const char* type) { set_group(g, type, values, sample); });
    }
    void get(const UnitAccess& which, double* values) override
    {
        for (const UnitAccess::Group& g : which.groups) by_type(g.type, [&](auto sample, const char* type) { get_group(g, type, values, sample); });
    }
    void enter_initialization(double start, double tolerance) override
    {
        look("fmi3EnterInitializationMode", enter_initialization_(instance_, tolerance > 0, tolerance, start, false, 0));
    }
    void exit_initialization() override
    {
        look("fmi3ExitInitializationMode", exit_initialization_(instance_));
        begun_ = true;
    }
    void enter_event() override { look("fmi3EnterEventMode", enter_event_(instance_)); }
    UnitHappened new_discrete_states() override
    {
        bool again = false, ended = false, nominals = false, moved = false, defined = false;
        double next = 0;
        look("fmi3UpdateDiscreteStates", update_(instance_, &again, &ended, &nominals, &moved, &defined, &next));
        return {again, ended, moved, defined ? next : HUGE_VAL};
    }
    void enter_continuous() override { look("fmi3EnterContinuousTimeMode", enter_continuous_(instance_)); }
    void set_time(double t) override { look("fmi3SetTime", set_time_(instance_, t)); }
    void set_states(const double* x, std::size_t n) override { look("fmi3SetContinuousStates", set_states_(instance_, x, n)); }
    void get_states(double* x, std::size_t n) override { look("fmi3GetContinuousStates", get_states_(instance_, x, n)); }
    void get_rates(double* rates, std::size_t n) override { look("fmi3GetContinuousStateDerivatives", get_rates_(instance_, rates, n)); }
    void get_indicators(double* z, std::size_t n) override { look("fmi3GetEventIndicators", get_indicators_(instance_, z, n)); }
    bool completed_step(bool& ended) override
    {
        bool enter = false;
        look("fmi3CompletedIntegratorStep", completed_(instance_, true, &enter, &ended));
        return enter;
    }
    bool directional(const std::vector<std::uint32_t>& unknown, std::uint32_t known, double* derivatives) override
    {
        if (directional_ == nullptr) return false;
        const double seed = 1;
        look("fmi3GetDirectionalDerivative", directional_(instance_, unknown.data(), unknown.size(), &known, 1, &seed, 1, derivatives, unknown.size()));
        return true;
    }
    bool do_step(double t, double step) override
    {
        bool event = false, ended = false, early = false;
        double reached = t + step;
        look("fmi3DoStep", do_step_(instance_, t, step, true, &event, &ended, &early, &reached));
        if (early)
            throw UnitCallFailed(fmt::format("fmi3DoStep returned early, at {:.9g} s instead of {:.9g} s, which it was not allowed to", reached, t + step));
        return !ended;
    }

private:
    template <typename F>
    void take(F& f, const char* name)
    {
        f = reinterpret_cast<F>(binary_.function(name));
    }
    template <typename Do>
    static void by_type(ForeignType type, Do what)
    {
        switch (type) {
            case ForeignType::float32:
                return what(float{}, "Float32");
            case ForeignType::float64:
                return what(double{}, "Float64");
            case ForeignType::int8:
                return what(std::int8_t{}, "Int8");
            case ForeignType::uint8:
                return what(std::uint8_t{}, "UInt8");
            case ForeignType::int16:
                return what(std::int16_t{}, "Int16");
            case ForeignType::uint16:
                return what(std::uint16_t{}, "UInt16");
            case ForeignType::int32:
                return what(std::int32_t{}, "Int32");
            case ForeignType::uint32:
                return what(std::uint32_t{}, "UInt32");
            case ForeignType::int64:
            case ForeignType::enumeration:
                return what(std::int64_t{}, "Int64");
            case ForeignType::uint64:
                return what(std::uint64_t{}, "UInt64");
            case ForeignType::boolean:
                return what(bool{}, "Boolean");
            default:
                throw UnitCallFailed("a value that is no number");
        }
    }
    template <typename T>
    void set_group(const UnitAccess::Group& g, const char* type, const double* values, T)
    {
        std::string name = fmt::format("fmi3Set{}", type);
        auto set = reinterpret_cast<Setter<T>>(binary_.function(name));
        auto list = std::make_unique<T[]>(g.places.size());
        for (std::size_t k = 0; k < g.places.size(); ++k) {
            double v = values[g.places[k]];
            if constexpr (std::is_same_v<T, bool>)
                list[k] = v > 0.5;
            else if constexpr (std::is_integral_v<T>) {
                if (!(v >= static_cast<double>(std::numeric_limits<T>::min()) && v <= static_cast<double>(std::numeric_limits<T>::max())))
                    throw UnitCallFailed(fmt::format("{}: {} does not fit", name, v));
                list[k] = static_cast<T>(v);
            } else
                list[k] = static_cast<T>(v);
        }
        look(name.c_str(), set(instance_, g.references.data(), g.references.size(), list.get(), g.places.size()));
    }
    template <typename T>
    void get_group(const UnitAccess::Group& g, const char* type, double* values, T)
    {
        std::string name = fmt::format("fmi3Get{}", type);
        auto get = reinterpret_cast<Getter<T>>(binary_.function(name));
        auto list = std::make_unique<T[]>(g.places.size());
        look(name.c_str(), get(instance_, g.references.data(), g.references.size(), list.get(), g.places.size()));
        for (std::size_t k = 0; k < g.places.size(); ++k) values[g.places[k]] = static_cast<double>(list[k]);
    }
    void look(const char* call, Status status)
    {
        broken_ |= status >= 3;
        look_at_status(call, status, words_);
    }

    UnitWords words_;
    UnitBinary binary_;
    Instance instance_ = nullptr;
    bool begun_ = false, broken_ = false;
    void (*free_instance_)(Instance) = nullptr;
    Status (*enter_initialization_)(Instance, bool, double, double, bool, double) = nullptr;
    Status (*exit_initialization_)(Instance) = nullptr;
    Status (*terminate_)(Instance) = nullptr;
    Status (*do_step_)(Instance, double, double, bool, bool*, bool*, bool*, double*) = nullptr;
    Status (*enter_event_)(Instance) = nullptr;
    Status (*update_)(Instance, bool*, bool*, bool*, bool*, bool*, double*) = nullptr;
    Status (*enter_continuous_)(Instance) = nullptr;
    Status (*completed_)(Instance, bool, bool*, bool*) = nullptr;
    Status (*set_time_)(Instance, double) = nullptr;
    Status (*set_states_)(Instance, const double*, std::size_t) = nullptr;
    Status (*get_states_)(Instance, double*, std::size_t) = nullptr;
    Status (*get_rates_)(Instance, double*, std::size_t) = nullptr;
    Status (*get_indicators_)(Instance, double*, std::size_t) = nullptr;
    Status (*directional_)(Instance, const std::uint32_t*, std::size_t, const std::uint32_t*, std::size_t, const double*, std::size_t, double*,
                           std::size_t) = nullptr;
};

}  // namespace

std::unique_ptr<UnitCalls> make_fmi3_calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance)
{
    return std::make_unique<Fmi3Calls>(d, folder, kind, instance);
}

}  // namespace netloop
