// SPDX-License-Identifier: Apache-2.0
// The functions of FMI 2.0.4 in C, around a machine in fixed steps. The standard's types are declared here from its text.
#include <fmt/format.h>

#include "exchange/c_text.hpp"
#include "exchange/fmi.hpp"

namespace netloop {
namespace {

// @ stands for the machine's name.
constexpr const char* kSource = R"c(#include "@.h"

#include <stdio.h>
#include <string.h>

/* --- types of the standard */
typedef void* fmi2Component;
typedef void* fmi2ComponentEnvironment;
typedef void* fmi2FMUstate;
typedef unsigned int fmi2ValueReference;
typedef double fmi2Real;
typedef int fmi2Integer;
typedef int fmi2Boolean;
typedef char fmi2Char;
typedef const fmi2Char* fmi2String;
typedef char fmi2Byte;
typedef enum { fmi2OK, fmi2Warning, fmi2Discard, fmi2Error, fmi2Fatal, fmi2Pending } fmi2Status;
typedef enum { fmi2ModelExchange, fmi2CoSimulation } fmi2Type;
typedef enum { fmi2DoStepStatus, fmi2PendingStatus, fmi2LastSuccessfulTime, fmi2Terminated } fmi2StatusKind;
typedef void (*fmi2CallbackLogger)(fmi2ComponentEnvironment, fmi2String, fmi2Status, fmi2String, fmi2String, ...);
typedef void* (*fmi2CallbackAllocateMemory)(size_t, size_t);
typedef void (*fmi2CallbackFreeMemory)(void*);
typedef void (*fmi2StepFinished)(fmi2ComponentEnvironment, fmi2Status);
typedef struct {
    fmi2CallbackLogger logger;
    fmi2CallbackAllocateMemory allocateMemory;
    fmi2CallbackFreeMemory freeMemory;
    fmi2StepFinished stepFinished;
    fmi2ComponentEnvironment componentEnvironment;
} fmi2CallbackFunctions;
typedef struct {
    fmi2Boolean newDiscreteStatesNeeded, terminateSimulation, nominalsOfContinuousStatesChanged, valuesOfContinuousStatesChanged, nextEventTimeDefined;
    fmi2Real nextEventTime;
} fmi2EventInfo;
#define fmi2True 1
#define fmi2False 0

/* --- an instance */
enum { INSTANTIATED = 1, INITIALIZATION = 2, EVENT = 4, CONTINUOUS = 8, STEPPED = 16, FAILED = 32, TERMINATED = 64, BROKEN = 128 };

typedef struct {
    @ machine;
    fmi2CallbackFunctions callbacks;
    char* instance;
    int type, state, logging, log_events, log_warnings, log_errors;
    int begun;    /* the start is settled with what was set */
    int stale;    /* what is no state does not fit the states */
    int unseen;   /* the outputs are not computed */
    int derived;  /* the derivatives are those of where it stands */
    double step_time;
    unsigned long warnings, bad_pivots;
} unit;

static const char* const status_text[] = {"", "the model said stop", "the model said fail", "a value is no longer finite: the step is too long, or an equation has no value there",
                                          "no start was found for these params", "a delay goes farther back than there is room for",
                                          "blocks and conditions set each other off without end"};

static void tell(unit* u, fmi2Status status, const char* category, const char* what, const char* more)
{
    int wanted = u->logging && (strcmp(category, "logStatusError") == 0     ? u->log_errors
                                : strcmp(category, "logStatusWarning") == 0 ? u->log_warnings
                                                                            : u->log_events);
    if (wanted && u->callbacks.logger != 0) u->callbacks.logger(u->callbacks.componentEnvironment, u->instance, status, category, "%s%s%s", what, more[0] != 0 ? ": " : "", more);
}

static fmi2Status refuse(unit* u, const char* function, const char* why)
{
    tell(u, fmi2Error, "logStatusError", function, why);
    return fmi2Error;
}

static int allowed(unit* u, int states, const char* function)
{
    if (u == 0) return 0;
    if (u->state & states) return 1;
    refuse(u, function, "not to be called in this state of the unit");
    return 0;
}

static fmi2Status broken(unit* u)
{
    tell(u, fmi2Error, "logStatusError", status_text[u->machine.status], u->machine.said != 0 ? u->machine.said : "");
    u->state = BROKEN;
    return fmi2Error;
}

/* The start, as soon as something is asked for. */
static int settle(unit* u)
{
    if (!u->begun) {
        if (@_begin(&u->machine) != @_GOOD && u->machine.status != @_STOPPED) {
            broken(u);
            return 0;
        }
        u->begun = 1;
        u->stale = u->unseen = 1;
    }
    if (u->stale && u->type == fmi2ModelExchange) {
        if (@_solve(&u->machine) != 0) {
            tell(u, fmi2Discard, "logStatusWarning", "equations", "what is no state could not be solved from the states: a smaller step may help");
            return 0;
        }
        u->stale = u->derived = 0;
        u->unseen = 1;
    }
    return 1;
}

/* What a call gives whose equations were not settled: it is worth another try elsewhere, or the unit is broken. */
static fmi2Status unsettled(unit* u)
{
    return u->state == BROKEN ? fmi2Error : fmi2Discard;
}

static int look(unit* u)
{
    if (!settle(u)) return 0;
    if (u->unseen) @_look(&u->machine);
    u->unseen = 0;
    return 1;
}

static void report_counts(unit* u)
{
    if (u->machine.warnings != u->warnings) tell(u, fmi2Warning, "logStatusWarning", "the model warned", "");
    if (u->machine.bad_pivots != u->bad_pivots) tell(u, fmi2Warning, "logStatusWarning", "a pivot of the elimination has become too small", "");
    u->warnings = u->machine.warnings;
    u->bad_pivots = u->machine.bad_pivots;
}

/* --- what is common */
EXPORTED const char* fmi2GetTypesPlatform(void)
{
    return "default";
}
EXPORTED const char* fmi2GetVersion(void)
{
    return "2.0";
}

EXPORTED fmi2Component fmi2Instantiate(fmi2String name, fmi2Type type, fmi2String guid, fmi2String resources, const fmi2CallbackFunctions* callbacks, fmi2Boolean visible,
                                       fmi2Boolean logging)
{
    unit* u;
    (void)resources;
    (void)visible;
    if (callbacks == 0 || callbacks->allocateMemory == 0 || callbacks->freeMemory == 0) return 0;
    if (name == 0 || name[0] == 0 || guid == 0 || strcmp(guid, GUID) != 0 || (type == fmi2ModelExchange && !HAS_MODEL_EXCHANGE)) {
        if (callbacks->logger != 0)
            callbacks->logger(callbacks->componentEnvironment, name != 0 ? name : "", fmi2Error, "logStatusError", "%s",
                              name == 0 || name[0] == 0                  ? "an instance needs a name"
                              : guid == 0 || strcmp(guid, GUID) != 0 ? "the guid is not that of this unit"
                                                                         : "this unit keeps the past of delays: it goes on by its own steps alone (co-simulation)");
        return 0;
    }
    u = callbacks->allocateMemory(1, sizeof *u);
    if (u == 0) return 0;
    u->instance = callbacks->allocateMemory(strlen(name) + 1, 1);
    if (u->instance == 0) {
        callbacks->freeMemory(u);
        return 0;
    }
    strcpy(u->instance, name);
    u->callbacks = *callbacks;
    u->type = type;
    u->state = INSTANTIATED;
    u->logging = logging;
    u->log_events = u->log_warnings = u->log_errors = 1;
    u->begun = 0;
    u->stale = u->unseen = 1;
    u->step_time = 0;
    u->warnings = u->bad_pivots = 0;
    @_init(&u->machine);
    return u;
}

EXPORTED void fmi2FreeInstance(fmi2Component c)
{
    unit* u = c;
    if (u == 0) return;
    u->callbacks.freeMemory(u->instance);
    u->callbacks.freeMemory(u);
}

EXPORTED fmi2Status fmi2SetDebugLogging(fmi2Component c, fmi2Boolean on, size_t n, const fmi2String categories[])
{
    unit* u = c;
    size_t k;
    if (!allowed(u, ~0, "fmi2SetDebugLogging")) return fmi2Error;
    u->logging = on;
    if (n == 0) u->log_events = u->log_warnings = u->log_errors = 1;
    if (n > 0) u->log_events = u->log_warnings = u->log_errors = 0;
    for (k = 0; k < n; ++k) {
        int all = strcmp(categories[k], "logAll") == 0;
        if (all || strcmp(categories[k], "logEvents") == 0)
            u->log_events = 1;
        else if (strcmp(categories[k], "logStatusWarning") != 0 && strcmp(categories[k], "logStatusError") != 0)
            return refuse(u, "fmi2SetDebugLogging", categories[k]);
        if (all || strcmp(categories[k], "logStatusWarning") == 0) u->log_warnings = 1;
        if (all || strcmp(categories[k], "logStatusError") == 0) u->log_errors = 1;
    }
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SetupExperiment(fmi2Component c, fmi2Boolean tolerance_defined, fmi2Real tolerance, fmi2Real start, fmi2Boolean stop_defined,
                                        fmi2Real stop)
{
    unit* u = c;
    (void)tolerance_defined;
    (void)tolerance;
    if (!allowed(u, INSTANTIATED, "fmi2SetupExperiment")) return fmi2Error;
    if (start != START_TIME) return refuse(u, "fmi2SetupExperiment", "the start time is fixed, as the description says");
    if (stop_defined && stop <= start) return refuse(u, "fmi2SetupExperiment", "the stop time lies before the start");
    return fmi2OK;
}

EXPORTED fmi2Status fmi2EnterInitializationMode(fmi2Component c)
{
    unit* u = c;
    if (!allowed(u, INSTANTIATED, "fmi2EnterInitializationMode")) return fmi2Error;
    u->state = INITIALIZATION;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2ExitInitializationMode(fmi2Component c)
{
    unit* u = c;
    if (!allowed(u, INITIALIZATION, "fmi2ExitInitializationMode")) return fmi2Error;
    if (!settle(u)) return unsettled(u);
    u->step_time = @_time(&u->machine);
    u->state = u->type == fmi2ModelExchange ? EVENT : STEPPED;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2Terminate(fmi2Component c)
{
    unit* u = c;
    if (!allowed(u, EVENT | CONTINUOUS | STEPPED | FAILED, "fmi2Terminate")) return fmi2Error;
    u->state = TERMINATED;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2Reset(fmi2Component c)
{
    unit* u = c;
    if (!allowed(u, ~0, "fmi2Reset")) return fmi2Error;
    @_init(&u->machine);
    u->begun = 0;
    u->stale = u->unseen = 1;
    u->step_time = 0;
    u->warnings = u->bad_pivots = 0;
    u->state = INSTANTIATED;
    return fmi2OK;
}

/* --- values: params and inputs by number, then outputs, states, rates */
enum { OUTPUTS = @_N_PARAMS, STATES = OUTPUTS + @_N_OUTPUTS, RATES = STATES + @_N_CONTINUOUS, END = RATES + @_N_CONTINUOUS };

static int input_number(fmi2ValueReference r)
{
    int k;
    for (k = 0; k < @_N_INPUTS; ++k)
        if (input_of[k] == r) return k;
    return -1;
}

static int is_output(fmi2ValueReference r)
{
    const int number = (int)r - OUTPUTS;
    return number >= 0 && number < @_N_OUTPUTS;
}

/* A reference as a number; -1 for one beyond all. */
static int place(fmi2ValueReference r)
{
    return r < END ? (int)r : -1;
}

static int get(unit* u, fmi2ValueReference reference, double* value)
{
    const int r = place(reference);
    if (r < 0) return 0;
    if (r < OUTPUTS) {
        *value = u->begun && u->machine.given[r] == 0 ? @_param(&u->machine, r) : u->machine.given_value[r];
    } else if (r < STATES) {
        *value = @_get(&u->machine, r - OUTPUTS);
    } else {
        double all[@_N_CONTINUOUS + 1];
        if (r < RATES)
            @_get_states(&u->machine, all);
        else
            @_get_rates(&u->machine, all);
        *value = all[r < RATES ? r - STATES : r - RATES];
    }
    return 1;
}

static int set(unit* u, fmi2ValueReference reference, double value)
{
    const int r = place(reference), input = input_number(reference);
    if (r < 0 || r >= OUTPUTS) return 0;
    if (value != value) return 0;
    if (u->state & (INSTANTIATED | INITIALIZATION)) {
        if (!settable[r]) return 0;
        if (u->machine.given_value[r] == value && u->machine.given[r]) return 1;
        @_set(&u->machine, r, value);
        u->begun = 0;
        u->stale = u->unseen = 1;
        return 1;
    }
    if (input < 0) return 0;
    @_set_input(&u->machine, input, value);
    u->stale = u->unseen = 1;
    return 1;
}

EXPORTED fmi2Status fmi2GetReal(fmi2Component c, const fmi2ValueReference references[], size_t n, fmi2Real values[])
{
    unit* u = c;
    size_t k;
    if (!allowed(u, INITIALIZATION | EVENT | CONTINUOUS | STEPPED | FAILED | TERMINATED | BROKEN, "fmi2GetReal")) return fmi2Error;
    if (!(u->state & (TERMINATED | BROKEN)) && !look(u)) return unsettled(u);
    for (k = 0; k < n; ++k)
        if (!get(u, references[k], &values[k])) return refuse(u, "fmi2GetReal", "there is no variable of this reference");
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SetReal(fmi2Component c, const fmi2ValueReference references[], size_t n, const fmi2Real values[])
{
    unit* u = c;
    size_t k;
    if (!allowed(u, INSTANTIATED | INITIALIZATION | EVENT | CONTINUOUS | STEPPED, "fmi2SetReal")) return fmi2Error;
    for (k = 0; k < n; ++k)
        if (!set(u, references[k], values[k])) return refuse(u, "fmi2SetReal", "no variable that can be set now, or no number");
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetBoolean(fmi2Component c, const fmi2ValueReference references[], size_t n, fmi2Boolean values[])
{
    unit* u = c;
    size_t k;
    double value = 0;
    if (!allowed(u, INITIALIZATION | EVENT | CONTINUOUS | STEPPED | FAILED | TERMINATED | BROKEN, "fmi2GetBoolean")) return fmi2Error;
    if (!(u->state & (TERMINATED | BROKEN)) && !look(u)) return unsettled(u);
    for (k = 0; k < n; ++k) {
        if (!get(u, references[k], &value)) return refuse(u, "fmi2GetBoolean", "there is no variable of this reference");
        values[k] = value != 0 ? fmi2True : fmi2False;
    }
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SetBoolean(fmi2Component c, const fmi2ValueReference references[], size_t n, const fmi2Boolean values[])
{
    unit* u = c;
    size_t k;
    if (!allowed(u, INSTANTIATED | INITIALIZATION | EVENT | STEPPED, "fmi2SetBoolean")) return fmi2Error;
    for (k = 0; k < n; ++k)
        if (!set(u, references[k], values[k] ? 1.0 : 0.0)) return refuse(u, "fmi2SetBoolean", "no variable that can be set now");
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetInteger(fmi2Component c, const fmi2ValueReference references[], size_t n, fmi2Integer values[])
{
    (void)references;
    (void)values;
    return c == 0 || n > 0 ? fmi2Error : fmi2OK;
}
EXPORTED fmi2Status fmi2SetInteger(fmi2Component c, const fmi2ValueReference references[], size_t n, const fmi2Integer values[])
{
    (void)references;
    (void)values;
    return c == 0 || n > 0 ? fmi2Error : fmi2OK;
}
EXPORTED fmi2Status fmi2GetString(fmi2Component c, const fmi2ValueReference references[], size_t n, fmi2String values[])
{
    (void)references;
    (void)values;
    return c == 0 || n > 0 ? fmi2Error : fmi2OK;
}
EXPORTED fmi2Status fmi2SetString(fmi2Component c, const fmi2ValueReference references[], size_t n, const fmi2String values[])
{
    (void)references;
    (void)values;
    return c == 0 || n > 0 ? fmi2Error : fmi2OK;
}

/* --- the state as a whole: the machine is one struct */
typedef struct {
    @ machine;
    int state, begun, stale, unseen;
    double step_time;
} kept;

EXPORTED fmi2Status fmi2GetFMUstate(fmi2Component c, fmi2FMUstate* to)
{
    unit* u = c;
    kept* k;
    if (!allowed(u, ~0, "fmi2GetFMUstate") || to == 0) return fmi2Error;
    k = *to;
    if (k == 0) k = u->callbacks.allocateMemory(1, sizeof *k);
    if (k == 0) return refuse(u, "fmi2GetFMUstate", "no memory");
    k->machine = u->machine;
    k->state = u->state, k->begun = u->begun, k->stale = u->stale, k->unseen = u->unseen, k->step_time = u->step_time;
    *to = k;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SetFMUstate(fmi2Component c, fmi2FMUstate from)
{
    unit* u = c;
    kept* k = from;
    if (!allowed(u, ~0, "fmi2SetFMUstate") || k == 0) return fmi2Error;
    u->machine = k->machine;
    u->state = k->state, u->begun = k->begun, u->stale = k->stale, u->unseen = k->unseen, u->step_time = k->step_time;
    u->derived = 0;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2FreeFMUstate(fmi2Component c, fmi2FMUstate* state)
{
    unit* u = c;
    if (!allowed(u, ~0, "fmi2FreeFMUstate") || state == 0) return fmi2Error;
    if (*state != 0) u->callbacks.freeMemory(*state);
    *state = 0;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SerializedFMUstateSize(fmi2Component c, fmi2FMUstate state, size_t* size)
{
    if (!allowed(c, ~0, "fmi2SerializedFMUstateSize") || state == 0 || size == 0) return fmi2Error;
    *size = sizeof(kept);
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SerializeFMUstate(fmi2Component c, fmi2FMUstate state, fmi2Byte bytes[], size_t size)
{
    kept copy;
    if (!allowed(c, ~0, "fmi2SerializeFMUstate") || state == 0) return fmi2Error;
    if (size < sizeof(kept)) return refuse(c, "fmi2SerializeFMUstate", "too little room");
    memcpy(&copy, state, sizeof copy);
    copy.machine.said = 0; /* an address means nothing elsewhere */
    memcpy(bytes, &copy, sizeof copy);
    return fmi2OK;
}

EXPORTED fmi2Status fmi2DeSerializeFMUstate(fmi2Component c, const fmi2Byte bytes[], size_t size, fmi2FMUstate* state)
{
    unit* u = c;
    if (!allowed(u, ~0, "fmi2DeSerializeFMUstate") || state == 0) return fmi2Error;
    if (size != sizeof(kept)) return refuse(u, "fmi2DeSerializeFMUstate", "bytes of another unit");
    if (*state == 0) *state = u->callbacks.allocateMemory(1, sizeof(kept));
    if (*state == 0) return refuse(u, "fmi2DeSerializeFMUstate", "no memory");
    memcpy(*state, bytes, sizeof(kept));
    ((kept*)*state)->machine.said = 0;
    return fmi2OK;
}

/* How the unknowns move when the knowns move along the seed: outputs, rates and, where the standard has references for them, indicators by states and inputs. */
static fmi2Status derive(unit* u, const char* function, const fmi2ValueReference unknown[], size_t n_unknown, const fmi2ValueReference known[], size_t n_known,
                         const double seed[], double sensitivity[], size_t n_indicators)
{
    double states[@_N_CONTINUOUS + 1], inputs[@_N_INPUTS + 1], rates[@_N_CONTINUOUS + 1], outputs[@_N_OUTPUTS + 1], indicators[@_N_INDICATORS + 1];
    size_t k;
    if (!allowed(u, EVENT | CONTINUOUS, function)) return fmi2Error;
    if (u->type != fmi2ModelExchange) return refuse(u, function, "provided in model exchange alone, as the description says");
    for (k = 0; k <= @_N_CONTINUOUS; ++k) states[k] = 0;
    for (k = 0; k <= @_N_INPUTS; ++k) inputs[k] = 0;
    for (k = 0; k < n_known; ++k) {
        const int input = input_number(known[k]), state = known[k] < END ? state_of[known[k]] : -1;
        if (input < 0 && state < 0) return refuse(u, function, "a known that is neither a state nor an input");
        if (input >= 0)
            inputs[input] += seed[k];
        else
            states[state] += seed[k];
    }
    for (k = 0; k < n_unknown; ++k)
        if (!(unknown[k] < END ? is_output(unknown[k]) || rate_of[unknown[k]] >= 0 : unknown[k] - END < n_indicators))
            return refuse(u, function, "an unknown that is neither an output nor the rate of a state");
    if (!settle(u)) return unsettled(u);
    if (!u->derived) @_differentiate(&u->machine);
    u->derived = 1;
    @_moved_along(&u->machine, states, inputs, rates, outputs, indicators);
    for (k = 0; k < n_unknown; ++k) {
        const fmi2ValueReference r = unknown[k];
        sensitivity[k] = r >= END ? indicators[(int)r - END] : rate_of[r] >= 0 ? rates[rate_of[r]] : outputs[(int)r - OUTPUTS];
    }
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetDirectionalDerivative(fmi2Component c, const fmi2ValueReference unknown[], size_t n_unknown, const fmi2ValueReference known[],
                                                 size_t n_known, const fmi2Real seed[], fmi2Real sensitivity[])
{
    return derive(c, "fmi2GetDirectionalDerivative", unknown, n_unknown, known, n_known, seed, sensitivity, 0);
}

/* --- model exchange */
EXPORTED fmi2Status fmi2EnterEventMode(fmi2Component c)
{
    unit* u = c;
    if (!allowed(u, CONTINUOUS, "fmi2EnterEventMode")) return fmi2Error;
    u->state = EVENT;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2NewDiscreteStates(fmi2Component c, fmi2EventInfo* info)
{
    unit* u = c;
    int k, moved = 0;
    double before[@_N_CONTINUOUS + 1], after[@_N_CONTINUOUS + 1];
    unsigned long events;
    if (!allowed(u, EVENT, "fmi2NewDiscreteStates") || info == 0) return fmi2Error;
    if (!settle(u)) return unsettled(u);
    @_get_states(&u->machine, before);
    events = u->machine.events;
    @_happen(&u->machine);
    @_get_states(&u->machine, after);
    for (k = 0; k < @_N_CONTINUOUS; ++k) moved |= before[k] != after[k];
    info->newDiscreteStatesNeeded = fmi2False;
    info->terminateSimulation = u->machine.status == @_STOPPED;
    info->nominalsOfContinuousStatesChanged = fmi2False;
    info->valuesOfContinuousStatesChanged = moved;
    info->nextEventTime = @_next(&u->machine);
    info->nextEventTimeDefined = info->nextEventTime < 1e300;
    u->stale = u->unseen = 1;
    report_counts(u);
    if (u->machine.events != events) tell(u, fmi2OK, "logEvents", "something happened", "");
    if (u->machine.status != @_GOOD && u->machine.status != @_STOPPED) return broken(u);
    if (u->machine.status == @_STOPPED) tell(u, fmi2OK, "logEvents", status_text[@_STOPPED], u->machine.said != 0 ? u->machine.said : "");
    return fmi2OK;
}

EXPORTED fmi2Status fmi2EnterContinuousTimeMode(fmi2Component c)
{
    unit* u = c;
    if (!allowed(u, EVENT, "fmi2EnterContinuousTimeMode")) return fmi2Error;
    u->state = CONTINUOUS;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2CompletedIntegratorStep(fmi2Component c, fmi2Boolean no_set_before, fmi2Boolean* enter_event_mode, fmi2Boolean* terminate)
{
    unit* u = c;
    (void)no_set_before;
    if (!allowed(u, CONTINUOUS, "fmi2CompletedIntegratorStep") || enter_event_mode == 0 || terminate == 0) return fmi2Error;
    *enter_event_mode = *terminate = fmi2False;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SetTime(fmi2Component c, fmi2Real time)
{
    unit* u = c;
    if (!allowed(u, EVENT | CONTINUOUS, "fmi2SetTime")) return fmi2Error;
    if (time != time) return refuse(u, "fmi2SetTime", "no number");
    @_put_time(&u->machine, time);
    u->stale = u->unseen = 1;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2SetContinuousStates(fmi2Component c, const fmi2Real x[], size_t n)
{
    unit* u = c;
    size_t k;
    if (!allowed(u, CONTINUOUS, "fmi2SetContinuousStates")) return fmi2Error;
    if (n != @_N_CONTINUOUS) return refuse(u, "fmi2SetContinuousStates", "another number of states");
    for (k = 0; k < n; ++k)
        if (x[k] != x[k]) return refuse(u, "fmi2SetContinuousStates", "no number");
    @_put_states(&u->machine, x);
    u->stale = u->unseen = 1;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetDerivatives(fmi2Component c, fmi2Real rates[], size_t n)
{
    unit* u = c;
    if (!allowed(u, EVENT | CONTINUOUS | TERMINATED | BROKEN, "fmi2GetDerivatives")) return fmi2Error;
    if (n != @_N_CONTINUOUS) return refuse(u, "fmi2GetDerivatives", "another number of states");
    if (!settle(u)) return unsettled(u);
    @_get_rates(&u->machine, rates);
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetEventIndicators(fmi2Component c, fmi2Real values[], size_t n)
{
    unit* u = c;
    if (!allowed(u, INITIALIZATION | EVENT | CONTINUOUS | TERMINATED | BROKEN, "fmi2GetEventIndicators")) return fmi2Error;
    if (n != @_N_INDICATORS) return refuse(u, "fmi2GetEventIndicators", "another number of indicators");
    if (!settle(u)) return unsettled(u);
    @_get_indicators(&u->machine, values);
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetContinuousStates(fmi2Component c, fmi2Real x[], size_t n)
{
    unit* u = c;
    if (!allowed(u, INITIALIZATION | EVENT | CONTINUOUS | TERMINATED | BROKEN, "fmi2GetContinuousStates")) return fmi2Error;
    if (n != @_N_CONTINUOUS) return refuse(u, "fmi2GetContinuousStates", "another number of states");
    if (!u->begun && !settle(u)) return unsettled(u);
    @_get_states(&u->machine, x);
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetNominalsOfContinuousStates(fmi2Component c, fmi2Real x[], size_t n)
{
    unit* u = c;
    size_t k;
    if (!allowed(u, INSTANTIATED | INITIALIZATION | EVENT | CONTINUOUS | TERMINATED | BROKEN, "fmi2GetNominalsOfContinuousStates")) return fmi2Error;
    if (n != @_N_CONTINUOUS) return refuse(u, "fmi2GetNominalsOfContinuousStates", "another number of states");
    for (k = 0; k < n; ++k) x[k] = nominal[k];
    return fmi2OK;
}

/* --- co-simulation */
EXPORTED fmi2Status fmi2DoStep(fmi2Component c, fmi2Real time, fmi2Real length, fmi2Boolean no_set_before)
{
    unit* u = c;
    unsigned long n, k;
    double whole;
    (void)no_set_before;
    if (!allowed(u, STEPPED, "fmi2DoStep")) return fmi2Error;
    if (u->type != fmi2CoSimulation) return refuse(u, "fmi2DoStep", "this instance is for model exchange");
    if (!(length > 0)) return refuse(u, "fmi2DoStep", "a step goes forwards");
    if (!(time - u->step_time < 1e-9 * (1 + u->step_time) && u->step_time - time < 1e-9 * (1 + u->step_time)))
        return refuse(u, "fmi2DoStep", "the unit stands at another time");
    whole = length / @_STEP;
    n = (unsigned long)(whole + 0.5);
    if (n == 0 || whole - (double)n > 1e-6 * whole || (double)n - whole > 1e-6 * whole)
        return refuse(u, "fmi2DoStep", "the length of a step is to be a whole number of the steps that the description names");
    for (k = 0; k < n; ++k) {
        if (@_step(&u->machine) == @_GOOD) continue;
        u->step_time = @_time(&u->machine);
        u->unseen = 1;
        if (u->machine.status != @_STOPPED) return broken(u);
        tell(u, fmi2Discard, "logEvents", status_text[@_STOPPED], u->machine.said != 0 ? u->machine.said : "");
        u->state = FAILED;
        return fmi2Discard;
    }
    u->step_time = time + length;
    u->unseen = 1;
    report_counts(u);
    return fmi2OK;
}

EXPORTED fmi2Status fmi2CancelStep(fmi2Component c)
{
    if (c != 0) refuse(c, "fmi2CancelStep", "no step is under way: each is done when fmi2DoStep returns");
    return fmi2Error;
}

EXPORTED fmi2Status fmi2SetRealInputDerivatives(fmi2Component c, const fmi2ValueReference references[], size_t n, const fmi2Integer order[],
                                                const fmi2Real values[])
{
    (void)references;
    (void)n;
    (void)order;
    (void)values;
    if (c != 0) refuse(c, "fmi2SetRealInputDerivatives", "inputs are not interpolated, as the description says");
    return fmi2Error;
}

EXPORTED fmi2Status fmi2GetRealOutputDerivatives(fmi2Component c, const fmi2ValueReference references[], size_t n, const fmi2Integer order[], fmi2Real values[])
{
    (void)references;
    (void)n;
    (void)order;
    (void)values;
    if (c != 0) refuse(c, "fmi2GetRealOutputDerivatives", "not provided, as the description says");
    return fmi2Error;
}

EXPORTED fmi2Status fmi2GetStatus(fmi2Component c, const fmi2StatusKind kind, fmi2Status* value)
{
    (void)kind;
    (void)value;
    if (c != 0) refuse(c, "fmi2GetStatus", "no step is under way");
    return fmi2Discard;
}

EXPORTED fmi2Status fmi2GetRealStatus(fmi2Component c, const fmi2StatusKind kind, fmi2Real* value)
{
    unit* u = c;
    if (!allowed(u, STEPPED | FAILED | TERMINATED | BROKEN, "fmi2GetRealStatus") || value == 0) return fmi2Error;
    if (kind != fmi2LastSuccessfulTime) return fmi2Discard;
    *value = u->step_time;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetIntegerStatus(fmi2Component c, const fmi2StatusKind kind, fmi2Integer* value)
{
    (void)c;
    (void)kind;
    (void)value;
    return fmi2Discard;
}

EXPORTED fmi2Status fmi2GetBooleanStatus(fmi2Component c, const fmi2StatusKind kind, fmi2Boolean* value)
{
    unit* u = c;
    if (!allowed(u, STEPPED | FAILED | TERMINATED | BROKEN, "fmi2GetBooleanStatus") || value == 0) return fmi2Error;
    if (kind != fmi2Terminated) return fmi2Discard;
    *value = u->machine.status == @_STOPPED ? fmi2True : fmi2False;
    return fmi2OK;
}

EXPORTED fmi2Status fmi2GetStringStatus(fmi2Component c, const fmi2StatusKind kind, fmi2String* value)
{
    (void)c;
    (void)kind;
    (void)value;
    return fmi2Discard;
}
)c";

}  // namespace

std::string exported_macro(StandardLinkage linkage)
{
    if (linkage == StandardLinkage::inner)
        return "#if defined(__GNUC__)\n#define EXPORTED static __attribute__((unused))\n#else\n#define EXPORTED static\n#endif\n";
    return "#if defined(_WIN32)\n#define EXPORTED __declspec(dllexport)\n#elif defined(__GNUC__)\n#define EXPORTED __attribute__((visibility(\"default\")))\n"
           "#else\n#define EXPORTED\n#endif\n";
}

std::string fmi2_source(const UnitDescription& unit, const FixedPlan& plan, StandardLinkage linkage)
{
    std::string text = with_names(kSource, unit.name);
    const std::string end_of_types = "/* --- an instance */\n";
    std::string own = exported_macro(linkage) + fmt::format("#define GUID {}\n#define HAS_MODEL_EXCHANGE {}\n#define START_TIME {:.17g}\n", c_string(unit.guid),
                                                            unit.model_exchange ? 1 : 0, plan.start_time);
    std::string inputs, settable, nominal;
    for (ParameterId p : plan.request.inputs) inputs += fmt::format("{}u, ", p);
    std::vector<char> can(plan.params.size(), 0);
    for (const UnitVariable& v : unit.variables)
        if (v.has_start) can[v.reference] = 1;
    // an output may be a state, and a state the rate of another
    std::vector<int> state_of(unit.first_free, -1), rate_of(unit.first_free, -1);
    for (std::size_t k = 0; k < unit.rates.size(); ++k) {
        const UnitVariable& rate = unit.variables[unit.rates[k] - 1];
        rate_of[rate.reference] = static_cast<int>(k);
        state_of[unit.variables[rate.rate_of - 1].reference] = static_cast<int>(k);
    }
    for (char c : can) settable += c != 0 ? "1, " : "0, ";
    const auto& z = plan.model->form.z;
    for (std::size_t i = 0; i < z.size(); ++i)
        if (plan.is_state[i] != 0) nominal += fmt::format("{:.17g}, ", z[i].usual);
    own += fmt::format(
        "static const unsigned input_of[] = {{{}0}};\nstatic const unsigned char settable[] = {{{}0}};\nstatic const double nominal[] = {{{}1}};\n"
        "static const int state_of[] = {{{}, -1}};\nstatic const int rate_of[] = {{{}, -1}};\n\n",
        inputs, settable, nominal, fmt::join(state_of, ", "), fmt::join(rate_of, ", "));
    text.insert(text.find(end_of_types), own);
    return text;
}

}  // namespace netloop
