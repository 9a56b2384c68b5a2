/* SPDX-License-Identifier: Apache-2.0
   Drives a unit of FMI 3.0 as somebody else's program would, by the standard's functions alone.

   importer3 LIBRARY TOKEN functions                                     whether each function of the standard is there
   importer3 LIBRARY TOKEN cs STEP STOP REFERENCE...                     co-simulation: time and values, a line a step
   importer3 LIBRARY TOKEN me STEP STOP STATES INDICATORS REFERENCE...   model exchange by the classical method of order 4, events found by halving
   importer3 LIBRARY TOKEN rules STEP STATES INDICATORS OUTPUT           legal and illegal calls; says what is wrong */
#include <dlfcn.h>
#include <math.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef void* instance;
typedef enum { OK, WARNING, DISCARD, ERROR, FATAL } status;
typedef void (*log_message)(void*, status, const char*, const char*);
#define MOST 64

#define CALLS(X)                                                                                                                                              \
    X(const char*, GetVersion, (void))                                                                                                                        \
    X(instance, InstantiateModelExchange, (const char*, const char*, const char*, bool, bool, void*, log_message))                                            \
    X(instance, InstantiateCoSimulation, (const char*, const char*, const char*, bool, bool, bool, bool, const uint32_t*, size_t, void*, log_message, void*)) \
    X(void, FreeInstance, (instance))                                                                                                                         \
    X(status, EnterInitializationMode, (instance, bool, double, double, bool, double))                                                                        \
    X(status, ExitInitializationMode, (instance))                                                                                                             \
    X(status, EnterEventMode, (instance))                                                                                                                     \
    X(status, Terminate, (instance))                                                                                                                          \
    X(status, Reset, (instance))                                                                                                                              \
    X(status, GetFloat64, (instance, const uint32_t*, size_t, double*, size_t))                                                                               \
    X(status, SetFloat64, (instance, const uint32_t*, size_t, const double*, size_t))                                                                         \
    X(status, GetInt32, (instance, const uint32_t*, size_t, int32_t*, size_t))                                                                                \
    X(status, GetFMUState, (instance, void**))                                                                                                                \
    X(status, SetFMUState, (instance, void*))                                                                                                                 \
    X(status, FreeFMUState, (instance, void**))                                                                                                               \
    X(status, SerializedFMUStateSize, (instance, void*, size_t*))                                                                                             \
    X(status, SerializeFMUState, (instance, void*, uint8_t*, size_t))                                                                                         \
    X(status, DeserializeFMUState, (instance, const uint8_t*, size_t, void**))                                                                                \
    X(status, EnterConfigurationMode, (instance))                                                                                                             \
    X(status, EnterStepMode, (instance))                                                                                                                      \
    X(status, UpdateDiscreteStates, (instance, bool*, bool*, bool*, bool*, bool*, double*))                                                                   \
    X(status, EnterContinuousTimeMode, (instance))                                                                                                            \
    X(status, CompletedIntegratorStep, (instance, bool, bool*, bool*))                                                                                        \
    X(status, SetTime, (instance, double))                                                                                                                    \
    X(status, SetContinuousStates, (instance, const double*, size_t))                                                                                         \
    X(status, GetContinuousStateDerivatives, (instance, double*, size_t))                                                                                     \
    X(status, GetEventIndicators, (instance, double*, size_t))                                                                                                \
    X(status, GetContinuousStates, (instance, double*, size_t))                                                                                               \
    X(status, GetDirectionalDerivative, (instance, const uint32_t*, size_t, const uint32_t*, size_t, const double*, size_t, double*, size_t))                 \
    X(status, GetNumberOfEventIndicators, (instance, size_t*))                                                                                                \
    X(status, GetNumberOfContinuousStates, (instance, size_t*))                                                                                               \
    X(status, DoStep, (instance, double, double, bool, bool*, bool*, bool*, double*))

#define DECLARE(type, name, arguments) static type(*name) arguments;
CALLS(DECLARE)

static const char* const others[] = {"SetDebugLogging",
                                     "InstantiateScheduledExecution",
                                     "GetFloat32",
                                     "SetFloat32",
                                     "GetInt8",
                                     "SetInt8",
                                     "GetUInt8",
                                     "SetUInt8",
                                     "GetInt16",
                                     "SetInt16",
                                     "GetUInt16",
                                     "SetUInt16",
                                     "SetInt32",
                                     "GetUInt32",
                                     "SetUInt32",
                                     "GetInt64",
                                     "SetInt64",
                                     "GetUInt64",
                                     "SetUInt64",
                                     "GetBoolean",
                                     "SetBoolean",
                                     "GetString",
                                     "SetString",
                                     "GetBinary",
                                     "SetBinary",
                                     "GetClock",
                                     "SetClock",
                                     "GetNumberOfVariableDependencies",
                                     "GetVariableDependencies",
                                     "GetAdjointDerivative",
                                     "ExitConfigurationMode",
                                     "GetIntervalDecimal",
                                     "GetIntervalFraction",
                                     "GetShiftDecimal",
                                     "GetShiftFraction",
                                     "SetIntervalDecimal",
                                     "SetIntervalFraction",
                                     "SetShiftDecimal",
                                     "SetShiftFraction",
                                     "EvaluateDiscreteStates",
                                     "GetNominalsOfContinuousStates",
                                     "GetOutputDerivatives",
                                     "ActivateModelPartition"};

static int n_wrong, n_logged;
static void log_it(void* environment, status s, const char* category, const char* text)
{
    (void)environment;
    ++n_logged;
    fprintf(stderr, "%d %s: %s\n", (int)s, category, text);
}
static void expect(int holds, const char* what)
{
    if (holds) return;
    ++n_wrong;
    printf("wrong: %s\n", what);
}
#define GOOD(call) expect((call) == OK, #call)
#define BAD(call) expect((call) == ERROR, #call)

static size_t n_states, n_indicators;

static void settle(instance c, double* x, double* next)
{
    bool again = true, terminate, nominals, moved, defined;
    int k;
    for (k = 0; again && k < 100; ++k) {
        GOOD(UpdateDiscreteStates(c, &again, &terminate, &nominals, &moved, &defined, next));
        if (!defined) *next = 1e300;
    }
    GOOD(EnterContinuousTimeMode(c));
    GOOD(GetContinuousStates(c, x, n_states));
}

static void rates_at(instance c, double t, const double* x, double* dx)
{
    SetTime(c, t);
    SetContinuousStates(c, x, n_states);
    GOOD(GetContinuousStateDerivatives(c, dx, n_states));
}

static void rk4(instance c, double t, double h, const double* x, double* to)
{
    double k[4][MOST], at[MOST];
    size_t i;
    rates_at(c, t, x, k[0]);
    for (i = 0; i < n_states; ++i) at[i] = x[i] + h / 2 * k[0][i];
    rates_at(c, t + h / 2, at, k[1]);
    for (i = 0; i < n_states; ++i) at[i] = x[i] + h / 2 * k[1][i];
    rates_at(c, t + h / 2, at, k[2]);
    for (i = 0; i < n_states; ++i) at[i] = x[i] + h * k[2][i];
    rates_at(c, t + h, at, k[3]);
    for (i = 0; i < n_states; ++i) to[i] = x[i] + h / 6 * (k[0][i] + 2 * k[1][i] + 2 * k[2][i] + k[3][i]);
}

static int crossed(instance c, double t, const double* x, const double* before)
{
    double z[MOST];
    size_t k;
    SetTime(c, t);
    SetContinuousStates(c, x, n_states);
    GOOD(GetEventIndicators(c, z, n_indicators));
    for (k = 0; k < n_indicators; ++k)
        if ((z[k] > 0) != (before[k] > 0)) return 1;
    return 0;
}

static void print_row(instance c, double t, int argc, char** argv, int first)
{
    int k;
    printf("%.17g", t);
    for (k = first; k < argc; ++k) {
        uint32_t r = (uint32_t)atoi(argv[k]);
        double v = 0;
        GOOD(GetFloat64(c, &r, 1, &v, 1));
        printf(" %.17g", v);
    }
    printf("\n");
}

static void exchange(instance c, double step, double stop, int argc, char** argv, int first)
{
    double x[MOST], to[MOST], z[MOST], t = 0, next = 1e300;
    int halvings;
    GOOD(EnterInitializationMode(c, false, 0, 0, false, 0));
    GOOD(ExitInitializationMode(c));
    settle(c, x, &next);
    print_row(c, 0, argc, argv, first);
    while (t < stop - 1e-9 * step) {
        double h = fmin(step - fmod(t, step), fmin(stop - t, next - t)), low = 0, high;
        int event;
        if (h < 1e-12 * step) h = fmin(step, stop - t);
        SetTime(c, t);
        SetContinuousStates(c, x, n_states);
        GOOD(GetEventIndicators(c, z, n_indicators));
        rk4(c, t, h, x, to);
        event = crossed(c, t + h, to, z);
        if (event) {
            high = h;
            for (halvings = 0; halvings < 60; ++halvings) {
                double middle = 0.5 * (low + high);
                rk4(c, t, middle, x, to);
                if (crossed(c, t + middle, to, z))
                    high = middle;
                else
                    low = middle;
            }
            h = high;
            rk4(c, t, h, x, to);
            (void)crossed(c, t + h, to, z);
        }
        t += h;
        memcpy(x, to, n_states * sizeof *x);
        SetTime(c, t);
        SetContinuousStates(c, x, n_states);
        if (event || t >= next) {
            GOOD(EnterEventMode(c));
            settle(c, x, &next);
        }
    }
    print_row(c, t, argc, argv, first);
    GOOD(Terminate(c));
}

int main(int argc, char** argv)
{
    void* library;
    instance c;
    size_t k;
    if (argc < 4) return 2;
    library = dlopen(argv[1], RTLD_NOW);
    if (library == 0) {
        printf("%s\n", dlerror());
        return 2;
    }
#define TAKE(type, name, arguments)                \
    *(void**)&name = dlsym(library, "fmi3" #name); \
    expect(*(void**)&name != 0, "function fmi3" #name);
    CALLS(TAKE)
    for (k = 0; k < sizeof others / sizeof *others; ++k) {
        char name[100];
        snprintf(name, sizeof name, "fmi3%s", others[k]);
        expect(dlsym(library, name) != 0, name);
    }
    expect(strcmp(GetVersion(), "3.0") == 0, "version");
    if (strcmp(argv[3], "functions") == 0) return n_wrong != 0;
    if (strcmp(argv[3], "cs") == 0) {
        double step = atof(argv[4]), stop = atof(argv[5]), t;
        long i, n = lround(stop / step);
        c = InstantiateCoSimulation("one", argv[2], "/nowhere/", false, true, false, false, 0, 0, 0, log_it, 0);
        expect(c != 0, "instance");
        if (c == 0) return 1;
        GOOD(EnterInitializationMode(c, true, 1e-6, 0, true, stop));
        GOOD(ExitInitializationMode(c));
        print_row(c, 0, argc, argv, 6);
        for (i = 0; i < n; ++i) {
            bool event, terminate, early;
            t = (double)i * step;
            GOOD(DoStep(c, t, step, true, &event, &terminate, &early, &t));
            expect(!event && !early, "no event mode");
            print_row(c, t, argc, argv, 6);
            if (terminate) break;
        }
        GOOD(Terminate(c));
        FreeInstance(c);
        return n_wrong != 0;
    }
    if (strcmp(argv[3], "slopes") == 0) { /* STATES, UNKNOWN..., "by", KNOWN...: a row for each known, at the start */
        uint32_t unknown[MOST], known;
        double one = 1, to[MOST], next = 1e300, x[MOST];
        size_t n = 0;
        int i = 5;
        n_states = (size_t)atoi(argv[4]);
        for (; i < argc && strcmp(argv[i], "by") != 0; ++i) unknown[n++] = (uint32_t)atoi(argv[i]);
        c = InstantiateModelExchange("one", argv[2], "/nowhere/", false, true, 0, log_it);
        expect(c != 0, "instance");
        if (c == 0) return 1;
        GOOD(EnterInitializationMode(c, false, 0, 0, false, 0));
        GOOD(ExitInitializationMode(c));
        settle(c, x, &next);
        for (++i; i < argc; ++i) {
            known = (uint32_t)atoi(argv[i]);
            GOOD(GetDirectionalDerivative(c, unknown, n, &known, 1, &one, 1, to, n));
            for (k = 0; k < n; ++k) printf("%.17g ", to[k]);
        }
        printf("\n");
        BAD(GetDirectionalDerivative(c, unknown, n, &known, 1, &one, 2, to, n));
        BAD(GetDirectionalDerivative(c, unknown, n, &known, 1, &one, 1, to, n + 1));
        unknown[0] = 1000000;
        BAD(GetDirectionalDerivative(c, unknown, 1, &known, 1, &one, 1, to, 1));
        GOOD(Terminate(c));
        FreeInstance(c);
        return n_wrong != 0;
    }
    if (strcmp(argv[3], "me") == 0) {
        n_states = (size_t)atoi(argv[6]), n_indicators = (size_t)atoi(argv[7]);
        c = InstantiateModelExchange("one", argv[2], "/nowhere/", false, true, 0, log_it);
        expect(c != 0, "instance");
        if (c == 0) return 1;
        exchange(c, atof(argv[4]), atof(argv[5]), argc, argv, 8);
        FreeInstance(c);
        return n_wrong != 0;
    }
    { /* rules */
        double step = atof(argv[4]), x[MOST], z[MOST], v = 0, again = 0, t = 0;
        bool a, b, d, e, f;
        uint32_t output = (uint32_t)atoi(argv[7]), beyond = 1000000;
        void* state = 0;
        size_t size = 0, n = 0;
        uint8_t* bytes;
        int32_t whole;
        n_states = (size_t)atoi(argv[5]), n_indicators = (size_t)atoi(argv[6]);
        expect(InstantiateModelExchange("one", "another", "/nowhere/", false, true, 0, log_it) == 0, "another token");
        expect(InstantiateModelExchange("", argv[2], "/nowhere/", false, true, 0, log_it) == 0, "no name");
        expect(InstantiateCoSimulation("one", argv[2], "/nowhere/", false, true, true, false, 0, 0, 0, log_it, 0) == 0, "no event mode there");
        c = InstantiateModelExchange("one", argv[2], "/nowhere/", false, false, 0, log_it);
        GOOD(GetNumberOfContinuousStates(c, &n));
        expect(n == n_states, "number of states");
        GOOD(GetNumberOfEventIndicators(c, &n));
        expect(n == n_indicators, "number of indicators");
        BAD(ExitInitializationMode(c));
        BAD(EnterEventMode(c));
        BAD(EnterContinuousTimeMode(c));
        BAD(SetTime(c, 1));
        BAD(EnterConfigurationMode(c));
        BAD(EnterStepMode(c));
        BAD(Terminate(c));
        BAD(DoStep(c, 0, step, true, &a, &b, &d, &t));
        BAD(EnterInitializationMode(c, false, 0, 5, false, 0));
        GOOD(EnterInitializationMode(c, false, 0, 0, false, 0));
        BAD(EnterInitializationMode(c, false, 0, 0, false, 0));
        GOOD(GetFloat64(c, &output, 1, &v, 1));
        BAD(GetFloat64(c, &beyond, 1, &v, 1));
        BAD(GetFloat64(c, &output, 1, &v, 2));
        BAD(GetInt32(c, &output, 1, &whole, 1));
        GOOD(GetInt32(c, &output, 0, &whole, 0));
        GOOD(ExitInitializationMode(c));
        BAD(SetTime(c, 1));
        BAD(SetContinuousStates(c, x, n_states));
        GOOD(UpdateDiscreteStates(c, &a, &b, &d, &e, &f, &t));
        GOOD(EnterContinuousTimeMode(c));
        BAD(UpdateDiscreteStates(c, &a, &b, &d, &e, &f, &t));
        GOOD(SetTime(c, 0.001));
        GOOD(GetContinuousStates(c, x, n_states));
        BAD(GetContinuousStates(c, x, n_states + 1));
        GOOD(GetContinuousStateDerivatives(c, x, n_states));
        GOOD(GetEventIndicators(c, z, n_indicators));
        x[0] = NAN;
        BAD(SetContinuousStates(c, x, n_states));
        GOOD(CompletedIntegratorStep(c, true, &a, &b));
        GOOD(GetFMUState(c, &state));
        GOOD(SerializedFMUStateSize(c, state, &size));
        bytes = malloc(size);
        GOOD(SerializeFMUState(c, state, bytes, size));
        BAD(SerializeFMUState(c, state, bytes, size - 1));
        GOOD(FreeFMUState(c, &state));
        expect(state == 0, "freed");
        GOOD(GetFloat64(c, &output, 1, &v, 1));
        GOOD(Reset(c));
        GOOD(EnterInitializationMode(c, false, 0, 0, false, 0));
        GOOD(ExitInitializationMode(c));
        GOOD(DeserializeFMUState(c, bytes, size, &state));
        GOOD(SetFMUState(c, state));
        GOOD(FreeFMUState(c, &state));
        free(bytes);
        GOOD(GetFloat64(c, &output, 1, &again, 1));
        expect(v == again, "the state put back");
        GOOD(Terminate(c));
        BAD(SetTime(c, 1));
        FreeInstance(c);
        FreeInstance(0);
        BAD(Terminate(0));
        BAD(GetFloat64(0, &output, 1, &v, 1));
        expect(n_logged > 0, "what is refused is told");
    }
    return n_wrong != 0;
}
