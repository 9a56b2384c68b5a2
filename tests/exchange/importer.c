/* SPDX-License-Identifier: Apache-2.0
   Runs a unit of FMI 2.0 as somebody else's program would: it shares no code with Net Loop, and knows the unit by the standard's functions alone.

   importer LIBRARY GUID cs STEP STOP REFERENCE...          co-simulation: time and values, a line a step
   importer LIBRARY GUID me STEP STOP STATES INDICATORS REFERENCE...   model exchange by the classical method of order 4, events found by halving
   importer LIBRARY GUID rules STEP STATES INDICATORS PARAM OUTPUT      the state machine of the standard, legal and illegal calls; says what is wrong */
#include <dlfcn.h>
#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

typedef void* component;
typedef unsigned int reference;
typedef enum { OK, WARNING, DISCARD, ERROR, FATAL, PENDING } status;
typedef struct {
    void (*logger)(void*, const char*, status, const char*, const char*, ...);
    void* (*allocate)(size_t, size_t);
    void (*release)(void*);
    void (*finished)(void*, status);
    void* environment;
} callbacks;
typedef struct {
    int again, terminate, nominals_changed, values_changed, next_defined;
    double next;
} event_info;

#define CALLS(X)                                                                                                     \
    X(const char*, GetVersion, (void))                                                                               \
    X(const char*, GetTypesPlatform, (void))                                                                         \
    X(component, Instantiate, (const char*, int, const char*, const char*, const callbacks*, int, int))              \
    X(void, FreeInstance, (component))                                                                               \
    X(status, SetDebugLogging, (component, int, size_t, const char* const*))                                         \
    X(status, SetupExperiment, (component, int, double, double, int, double))                                        \
    X(status, EnterInitializationMode, (component))                                                                  \
    X(status, ExitInitializationMode, (component))                                                                   \
    X(status, Terminate, (component))                                                                                \
    X(status, Reset, (component))                                                                                    \
    X(status, GetReal, (component, const reference*, size_t, double*))                                               \
    X(status, SetReal, (component, const reference*, size_t, const double*))                                         \
    X(status, GetBoolean, (component, const reference*, size_t, int*))                                               \
    X(status, SetBoolean, (component, const reference*, size_t, const int*))                                         \
    X(status, GetInteger, (component, const reference*, size_t, int*))                                               \
    X(status, GetString, (component, const reference*, size_t, const char**))                                        \
    X(status, GetFMUstate, (component, void**))                                                                      \
    X(status, SetFMUstate, (component, void*))                                                                       \
    X(status, FreeFMUstate, (component, void**))                                                                     \
    X(status, SerializedFMUstateSize, (component, void*, size_t*))                                                   \
    X(status, SerializeFMUstate, (component, void*, char*, size_t))                                                  \
    X(status, DeSerializeFMUstate, (component, const char*, size_t, void**))                                         \
    X(status, GetDirectionalDerivative, (component, const reference*, size_t, const reference*, size_t, const double*, double*)) \
    X(status, EnterEventMode, (component))                                                                           \
    X(status, NewDiscreteStates, (component, event_info*))                                                           \
    X(status, EnterContinuousTimeMode, (component))                                                                  \
    X(status, CompletedIntegratorStep, (component, int, int*, int*))                                                 \
    X(status, SetTime, (component, double))                                                                          \
    X(status, SetContinuousStates, (component, const double*, size_t))                                               \
    X(status, GetDerivatives, (component, double*, size_t))                                                          \
    X(status, GetEventIndicators, (component, double*, size_t))                                                      \
    X(status, GetContinuousStates, (component, double*, size_t))                                                     \
    X(status, GetNominalsOfContinuousStates, (component, double*, size_t))                                           \
    X(status, DoStep, (component, double, double, int))                                                              \
    X(status, CancelStep, (component))                                                                               \
    X(status, GetBooleanStatus, (component, int, int*))                                                              \
    X(status, GetRealStatus, (component, int, double*))

#define DECLARE(type, name, arguments) static type (*name) arguments;
CALLS(DECLARE)

static int n_logged, n_alive, n_wrong;
static void log_it(void* environment, const char* instance, status s, const char* category, const char* form, ...)
{
    va_list list;
    (void)environment;
    ++n_logged;
    fprintf(stderr, "%s %d %s: ", instance, (int)s, category);
    va_start(list, form);
    vfprintf(stderr, form, list);
    va_end(list);
    fputc('\n', stderr);
}
static void* allocate(size_t n, size_t size)
{
    ++n_alive;
    return calloc(n, size);
}
static void release(void* p)
{
    if (p != 0) --n_alive;
    free(p);
}

static void expect(int good, const char* what)
{
    if (good) return;
    ++n_wrong;
    printf("wrong: %s\n", what);
}
#define MUST(call) \
    if ((call) != OK) { \
        fprintf(stderr, "failed: %s\n", #call); \
        return 1; \
    }

static void print_row(component c, double t, const reference* r, size_t n)
{
    size_t k;
    double v;
    printf("%.17g", t);
    for (k = 0; k < n; ++k) {
        if (GetReal(c, &r[k], 1, &v) != OK) v = NAN;
        printf(" %.17g", v);
    }
    printf("\n");
}

static int co_simulate(component c, double step, double stop, const reference* r, size_t n)
{
    long k, steps = lround(stop / step);
    MUST(SetupExperiment(c, 0, 0, 0, 1, stop));
    MUST(EnterInitializationMode(c));
    MUST(ExitInitializationMode(c));
    print_row(c, 0, r, n);
    for (k = 0; k < steps; ++k) {
        status s = DoStep(c, (double)k * step, step, 1);
        print_row(c, (double)(k + 1) * step, r, n);
        if (s == DISCARD) {
            int over = 0;
            MUST(GetBooleanStatus(c, 3, &over));
            printf("stopped %d\n", over);
            break;
        }
        MUST(s);
    }
    MUST(Terminate(c));
    return 0;
}

/* One step of the classical method from x at t. */
static int advance(component c, double t, double h, const double* x, size_t n, double* to)
{
    double k[4][512], at[512];
    static const double share[4] = {0, 0.5, 0.5, 1};
    size_t i;
    int stage;
    for (stage = 0; stage < 4; ++stage) {
        for (i = 0; i < n; ++i) at[i] = x[i] + (stage == 0 ? 0 : share[stage] * h * k[stage - 1][i]);
        MUST(SetTime(c, t + share[stage] * h));
        if (n > 0) MUST(SetContinuousStates(c, at, n));
        MUST(GetDerivatives(c, k[stage], n));
    }
    for (i = 0; i < n; ++i) to[i] = x[i] + h / 6 * (k[0][i] + 2 * k[1][i] + 2 * k[2][i] + k[3][i]);
    MUST(SetTime(c, t + h));
    if (n > 0) MUST(SetContinuousStates(c, to, n));
    return 0;
}

static int crossed(const double* a, const double* b, size_t n)
{
    size_t k;
    for (k = 0; k < n; ++k)
        if ((a[k] > 0) != (b[k] > 0)) return 1; /* as the standard has it */
    return 0;
}

/* All that happens at one moment. */
static int pass_events(component c, event_info* info)
{
    do {
        MUST(NewDiscreteStates(c, info));
    } while (info->again && !info->terminate);
    MUST(EnterContinuousTimeMode(c));
    return 0;
}

/* How each of r moves with a known: as the unit says, then the values h above, here and h below, and h. Of a state the known is "reference:number". */
static int slopes(component c, size_t n, const reference* r, size_t n_r, char** known, int n_known)
{
    double x[512], said[64], all[64], sum[64], seeds[64], value[3][64];
    reference of[64];
    size_t i;
    int k, side;
    MUST(GetContinuousStates(c, x, n));
    for (i = 0; i < n_r; ++i) sum[i] = 0;
    for (k = 0; k < n_known; ++k) {
        const char* colon = strchr(known[k], ':');
        double was = 0, size, h, one = 1;
        of[k] = (reference)atoi(known[k]);
        seeds[k] = 0.5 + k;
        MUST(GetDirectionalDerivative(c, r, n_r, &of[k], 1, &one, said));
        if (colon == 0) {
            MUST(GetReal(c, &of[k], 1, &was));
        } else {
            was = x[atoi(colon + 1)];
        }
        size = fabs(was) > 1e-3 ? fabs(was) : 1e-3;
        h = 1e-5 * size;
        for (side = 1; side >= -1; --side) {
            double at = was + side * h;
            if (colon == 0) {
                MUST(SetReal(c, &of[k], 1, &at));
            } else {
                x[atoi(colon + 1)] = at;
                MUST(SetContinuousStates(c, x, n));
            }
            MUST(GetReal(c, r, n_r, value[1 - side]));
        }
        if (colon == 0) {
            MUST(SetReal(c, &of[k], 1, &was));
        } else {
            x[atoi(colon + 1)] = was;
            MUST(SetContinuousStates(c, x, n));
        }
        for (i = 0; i < n_r; ++i) {
            printf("%.17g %.17g %.17g %.17g %.17g\n", said[i], value[0][i], value[1][i], value[2][i], h);
            sum[i] += seeds[k] * said[i];
        }
    }
    MUST(GetDirectionalDerivative(c, r, n_r, of, (size_t)n_known, seeds, all));
    for (i = 0; i < n_r; ++i) expect(fabs(all[i] - sum[i]) <= 1e-9 * (fabs(all[i]) + fabs(sum[i])) + 1e-12, "several at once move it by the sum");
    return n_wrong != 0;
}

static int model_exchange(component c, double step, double stop, size_t n, size_t m, const reference* r, size_t n_r, char** known, int n_known)
{
    double x[512], to[512], g[512], g_to[512], t = 0;
    event_info info;
    memset(&info, 0, sizeof info);
    MUST(SetupExperiment(c, 0, 0, 0, 0, 0));
    MUST(EnterInitializationMode(c));
    MUST(ExitInitializationMode(c));
    if (pass_events(c, &info)) return 1;
    MUST(GetContinuousStates(c, x, n));
    MUST(GetEventIndicators(c, g, m));
    print_row(c, t, r, n_r);
    while (t < stop - 1e-12 && !info.terminate) {
        double h = step, low = 0;
        int event = 0, enter = 0, end = 0;
        if (t + h > stop) h = stop - t;
        if (info.next_defined && t + h >= info.next) h = info.next - t, event = 1;
        if (h > 0) {
            if (advance(c, t, h, x, n, to)) return 1;
            MUST(GetEventIndicators(c, g_to, m));
            if (crossed(g, g_to, m)) {
                double high = h;
                int k;
                event = 1;
                for (k = 0; k < 50; ++k) {
                    double middle = 0.5 * (low + high);
                    if (advance(c, t, middle, x, n, to)) return 1;
                    MUST(GetEventIndicators(c, g_to, m));
                    if (crossed(g, g_to, m))
                        high = middle;
                    else
                        low = middle;
                }
                h = high;
                if (advance(c, t, h, x, n, to)) return 1;
            }
            t += h;
            memcpy(x, to, n * sizeof *x);
            MUST(CompletedIntegratorStep(c, 1, &enter, &end));
        }
        if (event || enter) {
            MUST(EnterEventMode(c));
            if (pass_events(c, &info)) return 1;
            MUST(GetContinuousStates(c, x, n));
        }
        MUST(GetEventIndicators(c, g, m));
        print_row(c, t, r, n_r);
    }
    if (n_known > 0 && slopes(c, n, r, n_r, known, n_known)) return 1;
    MUST(Terminate(c));
    return 0;
}

static int rules(const char* guid, double step, size_t n, size_t m, reference param, reference output, const callbacks* calls)
{
    component c, d;
    double v = 0, w = 0, x[512];
    int whole = 0, k;
    void *kept = 0, *back = 0;
    size_t size = 0;
    char* bytes;
    event_info info;
    static const char* const categories[] = {"logStatusError", "none of them"};
    expect(strcmp(GetVersion(), "2.0") == 0, "the version");
    expect(strcmp(GetTypesPlatform(), "default") == 0, "the platform");
    expect(Instantiate("a", 1, "{another}", "", calls, 0, 1) == 0, "another guid is refused");
    expect(Instantiate("", 1, guid, "", calls, 0, 1) == 0, "no name is refused");
    expect(n_logged == 2, "both are logged");
    /* model exchange */
    c = Instantiate("a", 0, guid, "", calls, 0, 1);
    expect(c != 0, "an instance for model exchange");
    if (c == 0) return 1;
    expect(GetReal(c, &output, 1, &v) == ERROR, "no value before initialization");
    expect(NewDiscreteStates(c, &info) == ERROR, "no events before initialization");
    expect(SetTime(c, 1) == ERROR, "no time before initialization");
    expect(ExitInitializationMode(c) == ERROR, "exit without enter");
    expect(Terminate(c) == ERROR, "terminate before anything");
    expect(SetDebugLogging(c, 1, 1, categories) == OK, "a category");
    expect(SetDebugLogging(c, 1, 2, categories) == ERROR, "a category that there is not");
    expect(SetupExperiment(c, 0, 0, 0, 1, -1) == ERROR, "a stop before the start");
    expect(SetupExperiment(c, 0, 0, 0, 0, 0) == OK, "setup");
    expect(GetInteger(c, 0, 0, &whole) == OK, "no integers asked, none given");
    expect(GetInteger(c, &output, 1, &whole) == ERROR, "there are no integers");
    v = NAN;
    expect(SetReal(c, &param, 1, &v) == ERROR, "a param that is no number");
    expect(EnterInitializationMode(c) == OK, "enter");
    expect(EnterInitializationMode(c) == ERROR, "enter twice");
    expect(GetReal(c, &output, 1, &v) == OK, "a value within initialization");
    expect(SetReal(c, &output, 1, &v) == ERROR, "an output is not set");
    expect(ExitInitializationMode(c) == OK, "exit");
    v = 1;
    expect(SetReal(c, &param, 1, &v) == ERROR, "a fixed param behind the start");
    expect(DoStep(c, 0, step, 1) == ERROR, "no steps in model exchange");
    expect(GetDerivatives(c, x, n + 1) == ERROR, "another number of states");
    expect(GetDerivatives(c, x, n) == OK, "rates in event mode");
    expect(SetContinuousStates(c, x, n) == ERROR, "no states in event mode");
    expect(NewDiscreteStates(c, &info) == OK, "events");
    expect(EnterContinuousTimeMode(c) == OK, "on");
    expect(EnterContinuousTimeMode(c) == ERROR, "on twice");
    expect(NewDiscreteStates(c, &info) == ERROR, "no events while time goes on");
    expect(GetContinuousStates(c, x, n) == OK, "states");
    expect(SetContinuousStates(c, x, n) == OK, "the same states");
    if (n > 0) {
        double was = x[0];
        x[0] = NAN;
        expect(SetContinuousStates(c, x, n) == ERROR, "a state that is no number");
        x[0] = was;
    }
    expect(GetNominalsOfContinuousStates(c, x, n) == OK && (n == 0 || x[0] > 0), "sizes of states");
    expect(GetEventIndicators(c, x, m) == OK, "indicators");
    expect(GetEventIndicators(c, x, m + 1) == ERROR, "another number of indicators");
    output += 100000;
    expect(GetReal(c, &output, 1, &v) == ERROR, "a reference that there is not");
    output -= 100000;
    expect(GetDirectionalDerivative(c, &output, 1, &param, 1, &v, &w) == ERROR, "no derivative by what is neither state nor input");
    expect(GetDirectionalDerivative(c, &param, 1, 0, 0, 0, &w) == ERROR, "no derivative of a param");
    expect(GetDirectionalDerivative(c, &output, 1, 0, 0, 0, &w) == OK && w == 0, "what nothing moves stands still");
    expect(Terminate(c) == OK, "terminate");
    expect(SetTime(c, 1) == ERROR, "nothing goes on behind the end");
    expect(Reset(c) == OK, "reset");
    expect(EnterInitializationMode(c) == OK && ExitInitializationMode(c) == OK, "again");
    FreeInstance(c);
    FreeInstance(0);
    /* co-simulation; two instances that do not know of each other */
    c = Instantiate("a", 1, guid, "", calls, 0, 0);
    d = Instantiate("b", 1, guid, "", calls, 0, 0);
    expect(c != 0 && d != 0, "two instances");
    for (k = 0; k < 2; ++k) {
        component e = k == 0 ? c : d;
        expect(SetupExperiment(e, 0, 0, 0, 0, 0) == OK && EnterInitializationMode(e) == OK && ExitInitializationMode(e) == OK, "start");
    }
    expect(EnterEventMode(c) == ERROR, "no event mode in co-simulation");
    expect(GetDirectionalDerivative(c, &output, 1, 0, 0, 0, &w) == ERROR, "no derivatives in co-simulation, as the description says");
    expect(DoStep(c, 0, 0, 1) == ERROR, "a step of no length");
    expect(DoStep(c, 0, -step, 1) == ERROR, "a step backwards");
    expect(DoStep(c, 0, step * 0.37, 1) == ERROR, "a part of a step");
    expect(DoStep(c, 5, step, 1) == ERROR, "a step from elsewhere");
    for (k = 0; k < 10; ++k) expect(DoStep(c, k * step, step, 1) == OK, "a step");
    expect(DoStep(d, 0, 10 * step, 1) == OK, "ten steps at once");
    expect(GetReal(c, &output, 1, &v) == OK && GetReal(d, &output, 1, &w) == OK && v == w, "the same by single steps and by ten");
    expect(CancelStep(c) == ERROR, "no step to cancel");
    expect(GetRealStatus(c, 2, &w) == OK && fabs(w - 10 * step) < 1e-12, "the last time");
    /* the state, kept and put back, as bytes, in another instance */
    expect(GetFMUstate(c, &kept) == OK, "keep");
    expect(DoStep(c, 10 * step, 5 * step, 1) == OK && GetReal(c, &output, 1, &v) == OK, "on");
    expect(SetFMUstate(c, kept) == OK && DoStep(c, 10 * step, 5 * step, 1) == OK && GetReal(c, &output, 1, &w) == OK && v == w, "the same from the kept state");
    expect(SerializedFMUstateSize(c, kept, &size) == OK && size > 0, "its size");
    bytes = malloc(size);
    expect(SerializeFMUstate(c, kept, bytes, size - 1) == ERROR, "too little room");
    expect(SerializeFMUstate(c, kept, bytes, size) == OK, "as bytes");
    expect(DeSerializeFMUstate(d, bytes, size + 1, &back) == ERROR, "another size");
    expect(DeSerializeFMUstate(d, bytes, size, &back) == OK && SetFMUstate(d, back) == OK, "into the other");
    expect(DoStep(d, 10 * step, 5 * step, 1) == OK && GetReal(d, &output, 1, &w) == OK && v == w, "the same there");
    expect(FreeFMUstate(c, &kept) == OK && kept == 0 && FreeFMUstate(d, &back) == OK, "given back");
    free(bytes);
    FreeInstance(c);
    FreeInstance(d);
    expect(n_alive == 0, "all memory is given back");
    /* a thousand */
    for (k = 0; k < 1000; ++k) {
        c = Instantiate("many", 1, guid, "", calls, 0, 0);
        expect(c != 0, "one of a thousand");
        FreeInstance(c);
    }
    expect(n_alive == 0, "nothing grows");
    if (n_wrong == 0) printf("all rules hold\n");
    return n_wrong != 0;
}

int main(int argc, char** argv)
{
    callbacks calls = {log_it, allocate, release, 0, 0};
    reference r[64];
    size_t n = 0;
    int k, code;
    component c;
    void* library;
    if (argc < 6) return 2;
    library = dlopen(argv[1], RTLD_NOW);
    if (library == 0) {
        fprintf(stderr, "%s\n", dlerror());
        return 2;
    }
#define LOAD(type, name, arguments) \
    *(void**)&name = dlsym(library, "fmi2" #name); \
    if (name == 0) return fprintf(stderr, "no fmi2%s\n", #name), 2;
    CALLS(LOAD)
    if (strcmp(argv[3], "rules") == 0)
        return rules(argv[2], atof(argv[4]), (size_t)atoi(argv[5]), (size_t)atoi(argv[6]), (reference)atoi(argv[7]), (reference)atoi(argv[8]), &calls);
    c = Instantiate("unit", strcmp(argv[3], "cs") == 0, argv[2], "", &calls, 0, 1);
    if (c == 0) return 1;
    k = strcmp(argv[3], "cs") == 0 ? 6 : 8;
    for (; k < argc && n < 64 && strcmp(argv[k], "by") != 0; ++k) r[n++] = (reference)atoi(argv[k]);
    code = strcmp(argv[3], "cs") == 0 ? co_simulate(c, atof(argv[4]), atof(argv[5]), r, n)
                                      : model_exchange(c, atof(argv[4]), atof(argv[5]), (size_t)atoi(argv[6]), (size_t)atoi(argv[7]), r, n, argv + k + 1, argc - k - 1);
    FreeInstance(c);
    return code;
}
