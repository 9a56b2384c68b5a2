// SPDX-License-Identifier: Apache-2.0
#include "exchange/c_project.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <set>

#include "exchange/c_text.hpp"

namespace netloop {
namespace {

// Runs the machine against files of rows. @ stands for the machine's name, REAL for its numbers.
constexpr const char* kMain = R"(#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "@.h"

enum { LONGEST_LINE = 65536, MOST_COLUMNS = 4096 };

static int usage(void)
{
    fprintf(stderr,
            "usage: @ [--in FILE.csv] [--out FILE.csv] [--stop SECONDS] [--every STEPS] [--exact] [--set PARAM=SI] [--list]\n"
            "  --in     rows of inputs: a column 'time [s]', and for each input a column 'name [unit]' (its own unit) or 'name' (SI);\n"
            "           a row holds from its time on\n"
            "  --exact  outputs in SI with all their digits, for comparisons\n"
            "  --list   the params, inputs and outputs with their units and values\n");
    return 2;
}

static void list(const char* title, const @_column* columns, int n)
{
    int k;
    printf("%s\n", title);
    for (k = 0; k < n; ++k)
        printf("  %-40s %14.9g %-12s %s\n", columns[k].name, (columns[k].value - columns[k].offset) / columns[k].scale, columns[k].unit, columns[k].text);
}

/* The columns of a file of inputs: which input each is, -1 for the time, -2 for none. */
typedef struct {
    FILE* file;
    char line[LONGEST_LINE];
    int n, column[MOST_COLUMNS], is_si[MOST_COLUMNS];
    double row[MOST_COLUMNS];
    int has_row;
} input_rows;

static void trim(char* text)
{
    size_t n = strlen(text), first = 0;
    while (n > 0 && (text[n - 1] == ' ' || text[n - 1] == '"' || text[n - 1] == '\r' || text[n - 1] == '\n')) text[--n] = 0;
    while (text[first] == ' ' || text[first] == '"') ++first;
    memmove(text, text + first, n - first + 1);
}

static int read_heading(input_rows* in)
{
    char* at = in->line;
    in->n = 0;
    if (fgets(in->line, LONGEST_LINE, in->file) == 0) return 0;
    while (at != 0 && in->n < MOST_COLUMNS) {
        char *next = strchr(at, ','), *unit;
        if (next != 0) *next++ = 0;
        trim(at);
        unit = strstr(at, " [");
        in->is_si[in->n] = unit == 0;
        if (unit != 0) {
            unit[strlen(unit) - 1] = 0;
            *unit = 0;
            unit += 2;
        }
        in->column[in->n] = strcmp(at, "time") == 0 ? -1 : @_find(@_inputs, @_N_INPUTS, at);
        if (in->column[in->n] == -1 && strcmp(at, "time") != 0) {
            fprintf(stderr, "there is no input '%s'; --list tells them\n", at);
            return 0;
        }
        if (in->column[in->n] >= 0 && unit != 0 && strcmp(unit, @_inputs[in->column[in->n]].unit) != 0) {
            fprintf(stderr, "'%s' is in [%s] here; it is declared in [%s]\n", at, unit, @_inputs[in->column[in->n]].unit);
            return 0;
        }
        ++in->n;
        at = next;
    }
    return 1;
}

static int read_row(input_rows* in)
{
    char* at = in->line;
    int k;
    in->has_row = 0;
    if (fgets(in->line, LONGEST_LINE, in->file) == 0) return 1;
    for (k = 0; k < in->n; ++k) {
        char* end;
        in->row[k] = strtod(at, &end);
        if (end == at) {
            fprintf(stderr, "no number in column %d: %s", k + 1, in->line);
            return 0;
        }
        at = end + (*end == ',');
    }
    in->has_row = 1;
    return 1;
}

static double row_time(const input_rows* in)
{
    int k;
    for (k = 0; k < in->n; ++k)
        if (in->column[k] == -1) return in->row[k];
    return 0;
}

static int take_rows(input_rows* in, @* machine)
{
    int k;
    while (in->has_row && row_time(in) <= @_time(machine) + 0.5e-9) {
        for (k = 0; k < in->n; ++k)
            if (in->column[k] >= 0) {
                const @_column* c = &@_inputs[in->column[k]];
                @_set_input(machine, in->column[k], (REAL)(in->is_si[k] ? in->row[k] : in->row[k] * c->scale + c->offset));
            }
        if (!read_row(in)) return 0;
    }
    return 1;
}

static void write_row(FILE* out, @* machine, int exact)
{
    int k;
    @_look(machine);
    fprintf(out, exact ? "%.17g" : "%.12g", @_time(machine));
    for (k = 0; k < @_N_OUTPUTS; ++k) {
        const @_column* c = &@_outputs[k];
        const double si = @_get(machine, k);
        fprintf(out, exact ? ",%.17g" : ",%.9g", exact ? si : (si - c->offset) / c->scale);
    }
    fputc('\n', out);
}

int main(int argc, char** argv)
{
    static const char* const ends[] = {"", "the model said stop", "the model said fail", "a value is no longer finite", "no start was found for these params",
                                       "a delay goes farther back than there is room for", "blocks and conditions set each other off without end"};
    @* machine = malloc(sizeof *machine);
    input_rows* in = malloc(sizeof *in);
    const char *in_name = 0, *out_name = 0;
    FILE* out = stdout;
    double stop = DEFAULT_STOP;
    unsigned long every = 1, n, k;
    int exact = 0, i, status;
    if (machine == 0 || in == 0) return 1;
    in->file = 0;
    in->has_row = 0;
    @_init(machine);
    for (i = 1; i < argc; ++i) {
        if (strcmp(argv[i], "--exact") == 0) {
            exact = 1;
        } else if (strcmp(argv[i], "--list") == 0) {
            list("params", @_params, @_N_PARAMS);
            list("inputs", @_inputs, @_N_INPUTS);
            list("outputs", @_outputs, @_N_OUTPUTS);
            return 0;
        } else if (i + 1 >= argc) {
            return usage();
        } else if (strcmp(argv[i], "--in") == 0) {
            in_name = argv[++i];
        } else if (strcmp(argv[i], "--out") == 0) {
            out_name = argv[++i];
        } else if (strcmp(argv[i], "--stop") == 0) {
            stop = atof(argv[++i]);
        } else if (strcmp(argv[i], "--every") == 0) {
            every = strtoul(argv[++i], 0, 10);
            if (every == 0) return usage();
        } else if (strcmp(argv[i], "--set") == 0) {
            char* value = strchr(argv[++i], '=');
            int param;
            if (value == 0) return usage();
            *value++ = 0;
            param = @_find(@_params, @_N_PARAMS, argv[i]);
            if (param < 0) {
                fprintf(stderr, "there is no param '%s'; --list tells them\n", argv[i]);
                return 2;
            }
            @_set(machine, param, (REAL)atof(value));
        } else {
            return usage();
        }
    }
    if (in_name != 0) {
        in->file = fopen(in_name, "r");
        if (in->file == 0) {
            perror(in_name);
            return 1;
        }
        if (!read_heading(in) || !read_row(in)) return 1;
    }
    if (out_name != 0) {
        out = fopen(out_name, "w");
        if (out == 0) {
            perror(out_name);
            return 1;
        }
    }
    fprintf(out, exact ? "time" : "time [s]");
    for (i = 0; i < @_N_OUTPUTS; ++i) fprintf(out, exact || @_outputs[i].unit[0] == 0 ? ",%s" : ",%s [%s]", @_outputs[i].name, @_outputs[i].unit);
    fputc('\n', out);
    status = @_begin(machine);
    n = (unsigned long)((stop - @_time(machine)) / @_STEP + 0.5);
    if (status == @_GOOD) write_row(out, machine, exact);
    for (k = 1; k <= n && status == @_GOOD; ++k) {
        if (!take_rows(in, machine)) return 1;
        status = @_step(machine);
        if (k % every == 0 || k == n || status != @_GOOD) write_row(out, machine, exact);
    }
    if (fclose(out) != 0) {
        perror(out_name != 0 ? out_name : "standard output");
        return 1;
    }
    if (in->file != 0) fclose(in->file);
    if (status != @_GOOD) fprintf(stderr, "at %g s %s%s%s\n", @_time(machine), ends[status], machine->said != 0 ? ": " : "", machine->said != 0 ? machine->said : "");
    if (machine->bad_pivots > 0) fprintf(stderr, "%lu pivots of the elimination have become too small\n", machine->bad_pivots);
    free(machine);
    free(in);
    return status == @_GOOD || status == @_STOPPED ? 0 : 1;
}
)";

std::string table_of_signals(const FixedPlan& plan)
{
    const FlatModel& flat = plan.model->form.flat();
    std::string out = "| | name | unit | |\n| --- | --- | --- | --- |\n";
    for (ParameterId p : plan.request.inputs)
        out += fmt::format("| input | {} | {} | {} |\n", flat.parameters[p].path, flat.parameters[p].unit.text, flat.parameters[p].doc);
    for (std::uint32_t k : plan.request.outputs) {
        const OutputColumn& o = plan.model->form.outputs[k];
        out += fmt::format("| output | {} | {} | {} |\n", o.path, o.boolean ? "true or false" : o.unit.text, o.doc);
    }
    return out;
}

}  // namespace

std::string c_identifier(const std::string& name)
{
    std::string out;
    for (std::size_t k = 0; k < name.size(); ++k) {
        auto c = static_cast<unsigned char>(name[k]);
        if (std::isupper(c) != 0 && k > 0 && std::islower(static_cast<unsigned char>(name[k - 1])) != 0) out += '_';
        out += std::isalnum(c) != 0 ? static_cast<char>(std::tolower(c)) : '_';
    }
    if (out.empty() || std::isdigit(static_cast<unsigned char>(out[0])) != 0) out = "m_" + out;
    return is_taken_in_c(out) ? out + "_machine" : out;
}

bool is_taken_in_c(const std::string& name)
{
    // keywords of C99, and names that the written code uses itself
    static const std::set<std::string> kTaken{"auto",     "break",  "case",     "char",   "const",   "continue", "default", "do",     "double",  "else",
                                              "enum",     "extern", "float",    "for",    "goto",    "if",       "inline",  "int",    "long",    "register",
                                              "restrict", "return", "short",    "signed", "sizeof",  "static",   "struct",  "switch", "typedef", "union",
                                              "unsigned", "void",   "volatile", "while",  "main",    "unit",     "kept",    "tell",   "refuse",  "settle",
                                              "look",     "get",    "set",      "state",  "nominal", "settable", "broken",  "allowed"};
    constexpr std::size_t kShortest = 3;  // shorter ones are names of arguments
    return name.size() < kShortest || kTaken.contains(name);
}

CProject write_c_project(const FixedPlan& plan, const CMachineOptions& options, const std::string& title, double stop)
{
    CMachine machine = write_c_machine(plan, options);
    const std::string &name = options.name, real = options.single ? "float" : "double";
    std::string head = fmt::format("/* {} from {}. Not to be edited: export it again. */\n", kExportedBy, title);
    std::string main = with_names(kMain, name, real);
    const std::string placeholder = "DEFAULT_STOP";
    main.replace(main.find(placeholder), placeholder.size(), fmt::format("{:.17g}", stop));
    CProject made;
    made.files.emplace_back(name + ".h", head + machine.header);
    made.files.emplace_back(name + ".c", head + machine.source);
    made.files.emplace_back("main.c", head + main);
    made.files.emplace_back("Makefile", fmt::format("# {0} from {1}.\n"
                                                    "CC ?= cc\n"
                                                    "CFLAGS ?= -O2 -std=c99 -Wall -Wextra -pedantic\n"
                                                    "# without this the numbers may differ from Net Loop's in the last bit\n"
                                                    "EXACT = -ffp-contract=off\n\n"
                                                    "{2}: main.o {2}.o\n"
                                                    "\t$(CC) $(LDFLAGS) -o $@ main.o {2}.o -lm\n"
                                                    "%.o: %.c {2}.h\n"
                                                    "\t$(CC) $(CFLAGS) $(EXACT) -c -o $@ $<\n"
                                                    "clean:\n"
                                                    "\trm -f {2} main.o {2}.o\n"
                                                    ".PHONY: clean\n",
                                                    kExportedBy, title, name));
    made.files.emplace_back("CMakeLists.txt", fmt::format("# {0} from {1}.\n"
                                                          "cmake_minimum_required(VERSION 3.13)\n"
                                                          "project({2} C)\n"
                                                          "set(CMAKE_C_STANDARD 99)\n"
                                                          "if(NOT CMAKE_BUILD_TYPE)\n"
                                                          "  set(CMAKE_BUILD_TYPE Release)\n"
                                                          "endif()\n"
                                                          "add_library({2}_machine STATIC {2}.c)\n"
                                                          "target_include_directories({2}_machine PUBLIC ${{CMAKE_CURRENT_SOURCE_DIR}})\n"
                                                          "target_compile_options({2}_machine PRIVATE -ffp-contract=off)\n"
                                                          "target_link_libraries({2}_machine PUBLIC m)\n"
                                                          "add_executable({2} main.c)\n"
                                                          "target_link_libraries({2} PRIVATE {2}_machine)\n",
                                                          kExportedBy, title, name));
    auto padded = [](std::size_t bytes) { return (bytes + 7) / 8 * 8; };
    std::size_t of_real = options.single ? 4 : 8, n_params = std::max<std::size_t>(1, plan.params.size()), past = 0;
    for (const FixedPlan::Delay& d : plan.delay) past += d.room;
    bool stages = plan.request.method != FixedMethod::linear_euler && plan.request.method != FixedMethod::implicit_euler;
    std::size_t numbers = machine.n_memory + n_params + (stages ? 3 * std::max<std::size_t>(1, plan.z.size()) : 0) + past;
    made.state_bytes = 16 + padded(numbers * of_real) + 8 * plan.delay.size() + 32 * std::max<std::size_t>(1, plan.every.size()) +
                       padded(padded(n_params + std::max<std::size_t>(1, plan.blocks.size()) + 3 - 4) + 4) + 8 + 24;
    made.files.emplace_back(
        "README.md",
        fmt::format(
            "<!-- {0} from {1}. -->\n# {2}\n\n"
            "{1}, in steps of {3:g} s by the method `{4}`, as C99. `{2}.h` and `{2}.c` need nothing but the mathematical library: no heap, no recursion, "
            "nothing\n"
            "global that changes. `main.c` runs the machine against CSV; build it with `make` or CMake, and look at `./{2} --list`.\n\n"
            "```c\n{2} m;\n{2}_init(&m);              /* params as exported; {2}_set() gives others */\n{2}_begin(&m);             /* the start */\n"
            "for (;;) {{                 /* every {3:g} s */\n    {2}_set_input(&m, 0, command);\n    if ({2}_step(&m) != {2}_GOOD) break;\n    {2}_look(&m);\n"
            "    use({2}_get(&m, 0));\n}}\n```\n\n"
            "- **Memory**: about {5} bytes for a machine ({6} numbers of {7} bytes that equations read or write, the rest bookkeeping); the stack needs little "
            "more than\n"
            "  the deepest call.\n"
            "- **Work**: {8} operations in a step without events; {9} more at most at a moment when everything happens at once. Nothing is iterated until it "
            "fits.\n"
            "- **Numbers**: {10}\n"
            "- **What happens within a step** happens at its end. A pivot of the elimination that has become too small is counted in `bad_pivots` and used as "
            "it is.\n"
            "- **Params** may be given other values before `{2}_begin`, which then searches for the start that belongs to them in a bounded count of turns, "
            "and tells\n"
            "  by its code if there is none. Ranges of params are not looked at here.\n\n"
            "{11}",
            kExportedBy, title, name, plan.request.step, method_name(plan.request.method), made.state_bytes, machine.n_memory, of_real,
            plan.n_step_operations(), plan.n_moment_operations(),
            options.single ? "float. They differ from those of the run in double; `netloop export --check` tells by how much."
                           : "the same as those of Net Loop's own run in these steps, bit for bit, when compiled with `-ffp-contract=off` and the same "
                             "mathematical library.",
            table_of_signals(plan)));
    return made;
}

}  // namespace netloop
