// SPDX-License-Identifier: Apache-2.0
// The functions of FMI 3.0.1 in C. What a unit does is the same in both versions of the standard: these functions stand around those of 2.0, which are static
// here.
#include <fmt/format.h>

#include <map>
#include <regex>

#include "exchange/c_text.hpp"
#include "exchange/fmi.hpp"

namespace netloop {
namespace {

// @ stands for the machine's name.
constexpr const char* kSource = R"c(

typedef void* fmi3Instance;
typedef void* fmi3InstanceEnvironment;
typedef void* fmi3FMUState;
typedef uint32_t fmi3ValueReference;
typedef double fmi3Float64;
typedef bool fmi3Boolean;
typedef const char* fmi3String;
typedef uint8_t fmi3Byte;
typedef const fmi3Byte* fmi3Binary;
typedef bool fmi3Clock;
typedef enum { fmi3OK, fmi3Warning, fmi3Discard, fmi3Error, fmi3Fatal } fmi3Status;
typedef enum { fmi3Independent, fmi3Constant, fmi3Fixed, fmi3Tunable, fmi3Discrete, fmi3Dependent } fmi3DependencyKind;
typedef enum { fmi3IntervalNotYetKnown, fmi3IntervalUnchanged, fmi3IntervalChanged } fmi3IntervalQualifier;
typedef void (*fmi3LogMessageCallback)(fmi3InstanceEnvironment, fmi3Status, fmi3String, fmi3String);
typedef void (*fmi3IntermediateUpdateCallback)(fmi3InstanceEnvironment, fmi3Float64, fmi3Boolean, fmi3Boolean, fmi3Boolean, fmi3Boolean, fmi3Boolean*, fmi3Float64*);
typedef void (*fmi3ClockUpdateCallback)(fmi3InstanceEnvironment);
typedef void (*fmi3LockPreemptionCallback)(void);

typedef struct {
    unit* inner;
    fmi2CallbackFunctions callbacks;
    fmi3InstanceEnvironment environment;
    fmi3LogMessageCallback log;
} instance;

static void log_inner(fmi2ComponentEnvironment environment, fmi2String name, fmi2Status status, fmi2String category, fmi2String form, ...)
{
    instance* i = environment;
    char text[1000];
    va_list list;
    (void)name;
    if (i == 0 || i->log == 0) return;
    va_start(list, form);
    vsnprintf(text, sizeof text, form, list);
    va_end(list);
    i->log(i->environment, (fmi3Status)status, category, text);
}

static void* take_memory(size_t n, size_t size)
{
    return calloc(n, size);
}

static fmi3Instance make(fmi2Type type, fmi3String name, fmi3String token, fmi3Boolean visible, fmi3Boolean logging, fmi3InstanceEnvironment environment,
                         fmi3LogMessageCallback log)
{
    instance* i = calloc(1, sizeof *i);
    if (i == 0) return 0;
    i->environment = environment;
    i->log = log;
    i->callbacks.logger = log_inner;
    i->callbacks.allocateMemory = take_memory;
    i->callbacks.freeMemory = free;
    i->callbacks.componentEnvironment = i;
    i->inner = fmi2Instantiate(name, type, token, "", &i->callbacks, visible, logging);
    if (i->inner == 0) {
        free(i);
        return 0;
    }
    return i;
}

static fmi3Status refused(fmi3Instance c, const char* function, const char* why)
{
    if (c != 0) refuse(((instance*)c)->inner, function, why);
    return fmi3Error;
}
#define INNER(c) ((c) == 0 ? (unit*)0 : ((instance*)(c))->inner)

EXPORTED const char* fmi3GetVersion(void)
{
    return "3.0";
}
EXPORTED fmi3Status fmi3SetDebugLogging(fmi3Instance c, fmi3Boolean on, size_t n, const fmi3String categories[])
{
    return (fmi3Status)fmi2SetDebugLogging(INNER(c), on, n, categories);
}
EXPORTED fmi3Instance fmi3InstantiateModelExchange(fmi3String name, fmi3String token, fmi3String resources, fmi3Boolean visible, fmi3Boolean logging,
                                                   fmi3InstanceEnvironment environment, fmi3LogMessageCallback log)
{
    (void)resources;
    return make(fmi2ModelExchange, name, token, visible, logging, environment, log);
}
EXPORTED fmi3Instance fmi3InstantiateCoSimulation(fmi3String name, fmi3String token, fmi3String resources, fmi3Boolean visible, fmi3Boolean logging,
                                                  fmi3Boolean events, fmi3Boolean early_return, const fmi3ValueReference required[], size_t n_required,
                                                  fmi3InstanceEnvironment environment, fmi3LogMessageCallback log, fmi3IntermediateUpdateCallback update)
{
    (void)resources;
    (void)early_return;
    (void)required;
    (void)update;
    if (events || n_required > 0) {
        if (log != 0) log(environment, fmi3Error, "logStatusError", "the unit has neither an event mode in co-simulation nor intermediate values, as its description says");
        return 0;
    }
    return make(fmi2CoSimulation, name, token, visible, logging, environment, log);
}
EXPORTED fmi3Instance fmi3InstantiateScheduledExecution(fmi3String name, fmi3String token, fmi3String resources, fmi3Boolean visible, fmi3Boolean logging,
                                                        fmi3InstanceEnvironment environment, fmi3LogMessageCallback log, fmi3ClockUpdateCallback update,
                                                        fmi3LockPreemptionCallback lock, fmi3LockPreemptionCallback unlock)
{
    (void)name, (void)token, (void)resources, (void)visible, (void)logging, (void)update, (void)lock, (void)unlock;
    if (log != 0) log(environment, fmi3Error, "logStatusError", "the unit has no clocks to be scheduled");
    return 0;
}
EXPORTED void fmi3FreeInstance(fmi3Instance c)
{
    if (c == 0) return;
    fmi2FreeInstance(INNER(c));
    free(c);
}
EXPORTED fmi3Status fmi3EnterInitializationMode(fmi3Instance c, fmi3Boolean tolerance_defined, fmi3Float64 tolerance, fmi3Float64 start, fmi3Boolean stop_defined,
                                                fmi3Float64 stop)
{
    fmi2Status s = fmi2SetupExperiment(INNER(c), tolerance_defined, tolerance, start, stop_defined, stop);
    return (fmi3Status)(s == fmi2OK ? fmi2EnterInitializationMode(INNER(c)) : s);
}
EXPORTED fmi3Status fmi3ExitInitializationMode(fmi3Instance c)
{
    return (fmi3Status)fmi2ExitInitializationMode(INNER(c));
}
EXPORTED fmi3Status fmi3EnterEventMode(fmi3Instance c)
{
    return (fmi3Status)fmi2EnterEventMode(INNER(c));
}
EXPORTED fmi3Status fmi3Terminate(fmi3Instance c)
{
    return (fmi3Status)fmi2Terminate(INNER(c));
}
EXPORTED fmi3Status fmi3Reset(fmi3Instance c)
{
    return (fmi3Status)fmi2Reset(INNER(c));
}

/* --- values */
enum { INDICATORS = END, TIME_OF_UNIT = INDICATORS + @_N_INDICATORS };

EXPORTED fmi3Status fmi3GetFloat64(fmi3Instance c, const fmi3ValueReference references[], size_t n, fmi3Float64 values[], size_t n_values)
{
    size_t k;
    if (c == 0) return fmi3Error;
    if (n != n_values) return refused(c, "fmi3GetFloat64", "a value for each reference: there are no arrays");
    for (k = 0; k < n; ++k) {
        const fmi3ValueReference r = references[k];
        fmi2Status s;
        if (r < INDICATORS || r > TIME_OF_UNIT) {
            s = fmi2GetReal(INNER(c), &r, 1, &values[k]);
        } else if (r == TIME_OF_UNIT) {
            s = fmi2GetReal(INNER(c), 0, 0, 0);
            values[k] = @_time(&INNER(c)->machine);
        } else {
            double all[@_N_INDICATORS + 1];
            s = fmi2GetEventIndicators(INNER(c), all, @_N_INDICATORS);
            values[k] = s == fmi2OK ? all[r - INDICATORS] : 0;
        }
        if (s != fmi2OK) return (fmi3Status)s;
    }
    return fmi3OK;
}
EXPORTED fmi3Status fmi3SetFloat64(fmi3Instance c, const fmi3ValueReference references[], size_t n, const fmi3Float64 values[], size_t n_values)
{
    if (n != n_values) return refused(c, "fmi3SetFloat64", "a value for each reference: there are no arrays");
    return (fmi3Status)fmi2SetReal(INNER(c), references, n, values);
}
EXPORTED fmi3Status fmi3GetBoolean(fmi3Instance c, const fmi3ValueReference references[], size_t n, fmi3Boolean values[], size_t n_values)
{
    size_t k;
    int one = 0;
    if (n != n_values) return refused(c, "fmi3GetBoolean", "a value for each reference: there are no arrays");
    for (k = 0; k < n; ++k) {
        fmi2Status s = fmi2GetBoolean(INNER(c), &references[k], 1, &one);
        if (s != fmi2OK) return (fmi3Status)s;
        values[k] = one != 0;
    }
    return c == 0 ? fmi3Error : fmi3OK;
}
EXPORTED fmi3Status fmi3SetBoolean(fmi3Instance c, const fmi3ValueReference references[], size_t n, const fmi3Boolean values[], size_t n_values)
{
    size_t k;
    if (n != n_values) return refused(c, "fmi3SetBoolean", "a value for each reference: there are no arrays");
    for (k = 0; k < n; ++k) {
        int one = values[k] ? 1 : 0;
        fmi2Status s = fmi2SetBoolean(INNER(c), &references[k], 1, &one);
        if (s != fmi2OK) return (fmi3Status)s;
    }
    return c == 0 ? fmi3Error : fmi3OK;
}
#define NO_SUCH_KIND(kind, type)                                                                                                              \
    EXPORTED fmi3Status fmi3Get##kind(fmi3Instance c, const fmi3ValueReference references[], size_t n, type values[], size_t n_values)       \
    {                                                                                                                                         \
        (void)references;                                                                                                                     \
        (void)values;                                                                                                                         \
        return c != 0 && n == 0 && n_values == 0 ? fmi3OK : refused(c, "fmi3Get" #kind, "the unit has no such variables");                    \
    }                                                                                                                                         \
    EXPORTED fmi3Status fmi3Set##kind(fmi3Instance c, const fmi3ValueReference references[], size_t n, const type values[], size_t n_values) \
    {                                                                                                                                         \
        (void)references;                                                                                                                     \
        (void)values;                                                                                                                         \
        return c != 0 && n == 0 && n_values == 0 ? fmi3OK : refused(c, "fmi3Set" #kind, "the unit has no such variables");                    \
    }
NO_SUCH_KIND(Float32, float)
NO_SUCH_KIND(Int8, int8_t)
NO_SUCH_KIND(UInt8, uint8_t)
NO_SUCH_KIND(Int16, int16_t)
NO_SUCH_KIND(UInt16, uint16_t)
NO_SUCH_KIND(Int32, int32_t)
NO_SUCH_KIND(UInt32, uint32_t)
NO_SUCH_KIND(Int64, int64_t)
NO_SUCH_KIND(UInt64, uint64_t)
NO_SUCH_KIND(String, fmi3String)
#define NOT_THERE(name, arguments, why)             \
    EXPORTED fmi3Status name arguments              \
    {                                               \
        UNUSED_ARGUMENTS                            \
        return refused(c, #name, why);              \
    }
#define UNUSED_ARGUMENTS (void)references, (void)n, (void)sizes, (void)values, (void)n_values;
NOT_THERE(fmi3GetBinary, (fmi3Instance c, const fmi3ValueReference references[], size_t n, size_t sizes[], fmi3Binary values[], size_t n_values), "the unit has no such variables")
NOT_THERE(fmi3SetBinary, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const size_t sizes[], const fmi3Binary values[], size_t n_values), "the unit has no such variables")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)references, (void)n, (void)values;
NOT_THERE(fmi3GetClock, (fmi3Instance c, const fmi3ValueReference references[], size_t n, fmi3Clock values[]), "the unit has no clocks")
NOT_THERE(fmi3SetClock, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const fmi3Clock values[]), "the unit has no clocks")
NOT_THERE(fmi3GetShiftDecimal, (fmi3Instance c, const fmi3ValueReference references[], size_t n, fmi3Float64 values[]), "the unit has no clocks")
NOT_THERE(fmi3SetShiftDecimal, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const fmi3Float64 values[]), "the unit has no clocks")
NOT_THERE(fmi3SetIntervalDecimal, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const fmi3Float64 values[]), "the unit has no clocks")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)references, (void)n, (void)a, (void)b;
NOT_THERE(fmi3GetIntervalDecimal, (fmi3Instance c, const fmi3ValueReference references[], size_t n, fmi3Float64 a[], fmi3IntervalQualifier b[]), "the unit has no clocks")
NOT_THERE(fmi3GetShiftFraction, (fmi3Instance c, const fmi3ValueReference references[], size_t n, uint64_t a[], uint64_t b[]), "the unit has no clocks")
NOT_THERE(fmi3SetShiftFraction, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const uint64_t a[], const uint64_t b[]), "the unit has no clocks")
NOT_THERE(fmi3SetIntervalFraction, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const uint64_t a[], const uint64_t b[]), "the unit has no clocks")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)references, (void)n, (void)a, (void)b, (void)d;
NOT_THERE(fmi3GetIntervalFraction, (fmi3Instance c, const fmi3ValueReference references[], size_t n, uint64_t a[], uint64_t b[], fmi3IntervalQualifier d[]), "the unit has no clocks")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)reference, (void)n;
NOT_THERE(fmi3GetNumberOfVariableDependencies, (fmi3Instance c, fmi3ValueReference reference, size_t* n), "not provided for single elements, as the description says")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)reference, (void)a, (void)b, (void)d, (void)e, (void)n;
NOT_THERE(fmi3GetVariableDependencies, (fmi3Instance c, fmi3ValueReference reference, size_t a[], fmi3ValueReference b[], size_t d[], fmi3DependencyKind e[], size_t n), "not provided for single elements, as the description says")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)a, (void)n_a, (void)b, (void)n_b, (void)seed, (void)n_seed, (void)to, (void)n_to;
NOT_THERE(fmi3GetAdjointDerivative, (fmi3Instance c, const fmi3ValueReference a[], size_t n_a, const fmi3ValueReference b[], size_t n_b, const fmi3Float64 seed[], size_t n_seed, fmi3Float64 to[], size_t n_to), "not provided, as the description says")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS
NOT_THERE(fmi3EnterConfigurationMode, (fmi3Instance c), "there are no structural parameters")
NOT_THERE(fmi3ExitConfigurationMode, (fmi3Instance c), "there are no structural parameters")
NOT_THERE(fmi3EnterStepMode, (fmi3Instance c), "co-simulation has no event mode here, as the description says")
NOT_THERE(fmi3EvaluateDiscreteStates, (fmi3Instance c), "not provided, as the description says")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)references, (void)n, (void)orders, (void)values, (void)n_values;
NOT_THERE(fmi3GetOutputDerivatives, (fmi3Instance c, const fmi3ValueReference references[], size_t n, const int32_t orders[], fmi3Float64 values[], size_t n_values), "not provided, as the description says")
#undef UNUSED_ARGUMENTS
#define UNUSED_ARGUMENTS (void)clock, (void)time;
NOT_THERE(fmi3ActivateModelPartition, (fmi3Instance c, fmi3ValueReference clock, fmi3Float64 time), "the unit has no clocks")

EXPORTED fmi3Status fmi3GetDirectionalDerivative(fmi3Instance c, const fmi3ValueReference unknown[], size_t n_unknown, const fmi3ValueReference known[], size_t n_known,
                                                 const fmi3Float64 seed[], size_t n_seed, fmi3Float64 to[], size_t n_to)
{
    if (c == 0 || n_seed != n_known || n_to != n_unknown) return refused(c, "fmi3GetDirectionalDerivative", "another number of values");
    return (fmi3Status)derive(INNER(c), "fmi3GetDirectionalDerivative", unknown, n_unknown, known, n_known, seed, to, @_N_INDICATORS);
}

/* --- the state as a whole */
EXPORTED fmi3Status fmi3GetFMUState(fmi3Instance c, fmi3FMUState* to)
{
    return (fmi3Status)fmi2GetFMUstate(INNER(c), to);
}
EXPORTED fmi3Status fmi3SetFMUState(fmi3Instance c, fmi3FMUState from)
{
    return (fmi3Status)fmi2SetFMUstate(INNER(c), from);
}
EXPORTED fmi3Status fmi3FreeFMUState(fmi3Instance c, fmi3FMUState* state)
{
    return (fmi3Status)fmi2FreeFMUstate(INNER(c), state);
}
EXPORTED fmi3Status fmi3SerializedFMUStateSize(fmi3Instance c, fmi3FMUState state, size_t* size)
{
    return (fmi3Status)fmi2SerializedFMUstateSize(INNER(c), state, size);
}
EXPORTED fmi3Status fmi3SerializeFMUState(fmi3Instance c, fmi3FMUState state, fmi3Byte bytes[], size_t size)
{
    return (fmi3Status)fmi2SerializeFMUstate(INNER(c), state, (fmi2Byte*)bytes, size);
}
EXPORTED fmi3Status fmi3DeserializeFMUState(fmi3Instance c, const fmi3Byte bytes[], size_t size, fmi3FMUState* state)
{
    return (fmi3Status)fmi2DeSerializeFMUstate(INNER(c), (const fmi2Byte*)bytes, size, state);
}

/* --- model exchange */
EXPORTED fmi3Status fmi3UpdateDiscreteStates(fmi3Instance c, fmi3Boolean* again, fmi3Boolean* terminate, fmi3Boolean* nominals, fmi3Boolean* moved,
                                             fmi3Boolean* defined, fmi3Float64* next)
{
    fmi2EventInfo info;
    fmi2Status s;
    if (again == 0 || terminate == 0 || nominals == 0 || moved == 0 || defined == 0 || next == 0) return fmi3Error;
    memset(&info, 0, sizeof info);
    s = fmi2NewDiscreteStates(INNER(c), &info);
    *again = info.newDiscreteStatesNeeded != 0;
    *terminate = info.terminateSimulation != 0;
    *nominals = info.nominalsOfContinuousStatesChanged != 0;
    *moved = info.valuesOfContinuousStatesChanged != 0;
    *defined = info.nextEventTimeDefined != 0;
    *next = info.nextEventTime;
    return (fmi3Status)s;
}
EXPORTED fmi3Status fmi3EnterContinuousTimeMode(fmi3Instance c)
{
    return (fmi3Status)fmi2EnterContinuousTimeMode(INNER(c));
}
EXPORTED fmi3Status fmi3CompletedIntegratorStep(fmi3Instance c, fmi3Boolean no_set_before, fmi3Boolean* enter, fmi3Boolean* terminate)
{
    int e = 0, t = 0;
    fmi2Status s;
    if (enter == 0 || terminate == 0) return fmi3Error;
    s = fmi2CompletedIntegratorStep(INNER(c), no_set_before, &e, &t);
    *enter = e != 0;
    *terminate = t != 0;
    return (fmi3Status)s;
}
EXPORTED fmi3Status fmi3SetTime(fmi3Instance c, fmi3Float64 time)
{
    if (!allowed(INNER(c), CONTINUOUS, "fmi3SetTime")) return fmi3Error;
    return (fmi3Status)fmi2SetTime(INNER(c), time);
}
EXPORTED fmi3Status fmi3SetContinuousStates(fmi3Instance c, const fmi3Float64 x[], size_t n)
{
    return (fmi3Status)fmi2SetContinuousStates(INNER(c), x, n);
}
EXPORTED fmi3Status fmi3GetContinuousStateDerivatives(fmi3Instance c, fmi3Float64 rates[], size_t n)
{
    return (fmi3Status)fmi2GetDerivatives(INNER(c), rates, n);
}
EXPORTED fmi3Status fmi3GetEventIndicators(fmi3Instance c, fmi3Float64 values[], size_t n)
{
    return (fmi3Status)fmi2GetEventIndicators(INNER(c), values, n);
}
EXPORTED fmi3Status fmi3GetContinuousStates(fmi3Instance c, fmi3Float64 x[], size_t n)
{
    return (fmi3Status)fmi2GetContinuousStates(INNER(c), x, n);
}
EXPORTED fmi3Status fmi3GetNominalsOfContinuousStates(fmi3Instance c, fmi3Float64 x[], size_t n)
{
    return (fmi3Status)fmi2GetNominalsOfContinuousStates(INNER(c), x, n);
}
EXPORTED fmi3Status fmi3GetNumberOfEventIndicators(fmi3Instance c, size_t* n)
{
    if (c == 0 || n == 0) return fmi3Error;
    *n = @_N_INDICATORS;
    return fmi3OK;
}
EXPORTED fmi3Status fmi3GetNumberOfContinuousStates(fmi3Instance c, size_t* n)
{
    if (c == 0 || n == 0) return fmi3Error;
    *n = @_N_CONTINUOUS;
    return fmi3OK;
}

/* --- co-simulation */
EXPORTED fmi3Status fmi3DoStep(fmi3Instance c, fmi3Float64 time, fmi3Float64 length, fmi3Boolean no_set_before, fmi3Boolean* event, fmi3Boolean* terminate,
                               fmi3Boolean* early, fmi3Float64* reached)
{
    fmi2Status s;
    if (c == 0 || event == 0 || terminate == 0 || early == 0 || reached == 0) return fmi3Error;
    s = fmi2DoStep(INNER(c), time, length, no_set_before);
    *event = *early = false;
    *terminate = s == fmi2Discard && INNER(c)->machine.status == @_STOPPED;
    *reached = INNER(c)->step_time;
    /* the model's own stop is an end, and no failure */
    return *terminate ? fmi3OK : (fmi3Status)s;
}
)c";

// Names of functions in the texts of the log.
std::string in_words_of_three(const std::string& text)
{
    static const std::map<std::string, std::string> kNow{{"NewDiscreteStates", "UpdateDiscreteStates"},
                                                         {"GetReal", "GetFloat64"},
                                                         {"SetReal", "SetFloat64"},
                                                         {"GetDerivatives", "GetContinuousStateDerivatives"},
                                                         {"SetupExperiment", "EnterInitializationMode"},
                                                         {"GetFMUstate", "GetFMUState"},
                                                         {"SetFMUstate", "SetFMUState"},
                                                         {"FreeFMUstate", "FreeFMUState"},
                                                         {"SerializedFMUstateSize", "SerializedFMUStateSize"},
                                                         {"SerializeFMUstate", "SerializeFMUState"},
                                                         {"DeSerializeFMUstate", "DeserializeFMUState"}};
    static const std::regex kName("\"fmi2([A-Za-z]+)\"");
    std::string out;
    std::size_t done = 0;
    for (std::sregex_iterator it(text.begin(), text.end(), kName), end; it != end; ++it) {
        auto now = kNow.find((*it)[1]);
        out += text.substr(done, static_cast<std::size_t>(it->position()) - done) + "\"fmi3" + (now == kNow.end() ? (*it)[1].str() : now->second) + "\"";
        done = static_cast<std::size_t>(it->position() + it->length());
    }
    return out + text.substr(done);
}

}  // namespace

std::string fmi3_source(const UnitDescription& unit, const FixedPlan& plan)
{
    return in_words_of_three(fmi2_source(unit, plan, StandardLinkage::inner)) +
           "\n/* --- FMI 3.0 */\n#include <stdarg.h>\n#include <stdbool.h>\n#include <stdint.h>\n#include <stdlib.h>\n#undef EXPORTED\n" +
           exported_macro(StandardLinkage::seen) + with_names(kSource, unit.name);
}

}  // namespace netloop
