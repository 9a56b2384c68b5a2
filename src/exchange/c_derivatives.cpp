// SPDX-License-Identifier: Apache-2.0
#include "exchange/c_derivatives.hpp"

namespace netloop {
namespace {

struct Indicator {
    std::size_t condition = 0;  ///< into FixedPlan::condition
    double sign = 1;            ///< of its value
    std::string at_zero;        ///< what is added to it
};

// The standard's sides are g > 0 and g <= 0: zero itself has to fall to the side that it falls to here.
std::vector<Indicator> indicators(const CText& text, const FixedPlan& plan)
{
    std::vector<Indicator> list;
    for (std::size_t k = 0; k < plan.condition.size(); ++k) {
        const FixedPlan::Condition& c = plan.condition[k];
        if (c.kind == Condition::Kind::whole) {
            std::string mode = text.fill(fmt::format("s->m[@_MODE + {}]", c.number));
            list.push_back({k, -1, mode});
            list.push_back({k, -1, mode + " + 1"});
        } else {
            list.push_back({k, c.kind == Condition::Kind::less ? -1.0 : 1.0, ""});
        }
    }
    return list;
}

std::vector<std::uint32_t> states(const FixedPlan& plan)
{
    std::vector<std::uint32_t> list;
    for (std::uint32_t i = 0; i < plan.is_state.size(); ++i)
        if (plan.is_state[i] != 0) list.push_back(i);
    return list;
}

std::string state_columns(const CText& text, const FixedPlan& plan)
{
    const SolverForm& form = plan.model->form;
    std::vector<CText::Column> list;
    for (std::uint32_t i : states(plan)) list.push_back({form.z_name(i), "", form.flat().quantities[form.z[i].variable.quantity].doc, 1, 0, plan.z[i]});
    std::vector<double> usual;
    for (const ZEntry& z : form.z) usual.push_back(z.usual);
    return "\n" + text.columns("states", list) + text.list("unsigned", "state_at", states(plan)) + text.list(text.real().c_str(), "usual", usual);
}

// Newton's iteration with the elimination of an earlier point as long as it does: what is no state moves little from point to point.
std::string solve(const CText& text, const FixedPlan& plan)
{
    std::string lists = text.list("unsigned", "again_result", text.indices(plan.again.result));
    return lists + text.fill(fmt::format(R"(
int @_solve(@* s)
{{
    REAL before[{1}], last = 0;
    int turn, i, anew = !s->factored;
    @_take_inputs(s);
    for (i = 0; i < {0}; ++i) before[i] = *@_searched(s, i);
    for (turn = 0; turn < 30; ++turn) {{
        REAL most = 0;
        int lost = 0;
        if (anew)
            @_rest_solve(s);
        else
            @_rest_again(s->m);
        for (i = 0; i < {0}; ++i) {{
            const REAL x = s->m[anew ? @_rest_result[i] : @_again_result[i]];
            REAL* value = @_searched(s, i);
            REAL share;
            *value -= x;
            share = fabsFN(x) / (fabsFN(*value) + @_usual[i]);
            if (share > most) most = share;
            if (!(share < (REAL)1e300)) lost = 1;
        }}
        if (lost && anew) break;
        if (lost) {{
            for (i = 0; i < {0}; ++i) *@_searched(s, i) = before[i];
            anew = 1;
            continue;
        }}
        s->factored = 1;
        /* of another point's elimination only that the iteration comes nearer says that it suits this one: where a matrix has become much smaller since, the
           first correction is close to nothing however far the solution is */
        if (anew ? most <= (REAL)1e-9 : most == 0 || (turn > 0 && most <= (REAL)0.1 * last && most * most <= (REAL)1e-13 * last && most <= (REAL)1e-9)) return 0;
        /* where it does not come nearer fast, each turn has its own */
        if (turn > 0 && most > (REAL)0.1 * last) anew = 1;
        last = most;
    }}
    /* the next search begins where the last good one ended, not where this one has lost its way */
    for (i = 0; i < {0}; ++i) *@_searched(s, i) = before[i];
    s->factored = 0;
    return -1;
}}
)",
                                         plan.model->n(), std::max<std::size_t>(1, plan.model->n())));
}

std::string entries(const CText& text, const char* what, const std::vector<FixedPlan::Slopes::Entry>& list)
{
    std::vector<std::uint32_t> of, by, at;
    for (const auto& e : list) of.push_back(e.of), by.push_back(e.by), at.push_back(text.at(e.place));
    return text.list("unsigned", fmt::format("{}_of", what), of) + text.list("unsigned", fmt::format("{}_by", what), by) +
           text.list("unsigned", fmt::format("{}_at", what), at);
}

// One sum of derivatives times movements for each of a list.
std::string sums(const CText& text, const char* what, std::size_t n, const std::string& to)
{
    return text.fill(fmt::format("    for (k = 0; k < {}; ++k) {}[@_{}_of[k]] += s->m[@_{}_at[k]] * d[@_{}_by[k]];\n", n, to, what, what, what));
}

std::string slopes(const CText& text, const FixedPlan& plan)
{
    const FixedPlan::Slopes& p = plan.slopes;
    const MemoryLayout& at = plan.model->layout;
    std::string out = entries(text, "slope_params", p.params) + entries(text, "slope_rows", p.rows) + entries(text, "slope_outputs", p.outputs) +
                      entries(text, "slope_conditions", p.conditions) + text.list("unsigned", "slope_side", text.indices(p.side)) +
                      text.list("unsigned", "slope_result", text.indices(p.result));
    out += text.fill(fmt::format(R"(
void @_differentiate(@* s)
{{
    @_take_inputs(s);
    @_slopes(s->m);
}}

void @_moved_along(@* s, const REAL* states, const REAL* inputs, REAL* rates, REAL* outputs, REAL* g)
{{
    REAL d[{0}], c[{1}];
    int k;
    for (k = 0; k < {0}; ++k) d[k] = 0;
    for (k = 0; k < {2}; ++k) d[@_Z + @_state_at[k]] = states[k];
    for (k = 0; k < {3}; ++k) d[@_P + @_input_param[k]] = inputs[k];
    for (k = 0; k < {4}; ++k)
        if (!s->given[@_slope_params_of[k]]) d[@_P + @_slope_params_of[k]] += s->m[@_slope_params_at[k]] * d[@_slope_params_by[k]];
    for (k = 0; k < {5}; ++k) s->m[@_slope_side[k]] = 0;
    for (k = 0; k < {6}; ++k) s->m[@_slope_side[@_slope_rows_of[k]]] += s->m[@_slope_rows_at[k]] * d[@_slope_rows_by[k]];
    @_slopes_substitution(s->m);
    for (k = 0; k < {5}; ++k) d[(@_is_state[k] ? @_W : @_Z) + k] = -s->m[@_slope_result[k]];
    for (k = 0; k < {2}; ++k) rates[k] = d[@_W + @_state_at[k]];
    for (k = 0; k < {7}; ++k) outputs[k] = 0;
)",
                                 at.constants, std::max<std::size_t>(1, plan.condition.size()), states(plan).size(), plan.request.inputs.size(),
                                 p.params.size(), plan.model->n(), p.rows.size(), plan.request.outputs.size()));
    out += sums(text, "slope_outputs", p.outputs.size(), "outputs");
    out += fmt::format("    for (k = 0; k < {}; ++k) c[k] = 0;\n", plan.condition.size());
    out += sums(text, "slope_conditions", p.conditions.size(), "c");
    std::size_t k = 0;
    for (const Indicator& i : indicators(text, plan)) out += fmt::format("    g[{}] = {}c[{}];\n", k++, i.sign < 0 ? "-" : "", i.condition);
    return out + "    (void)c;\n    (void)g;\n    (void)inputs;\n    (void)states;\n    (void)rates;\n    (void)outputs;\n}\n";
}

}  // namespace

std::string c_derivatives_header(const CText& text, const FixedPlan& plan)
{
    return text.fill(fmt::format(R"(
/* For those who integrate themselves. States: {0} of them, in the order of @_states. */
#define @_N_CONTINUOUS {0}
#define @_N_INDICATORS {1}
extern const @_column @_states[];
REAL @_param(const @* s, int param);
void @_put_time(@* s, double t);
void @_put_states(@* s, const REAL* x);
void @_get_states(const @* s, REAL* x);
/* What is no state is solved from the states until it stands, in at most 30 turns; -1 if it does not. Then @_look and @_get_rates tell what follows. */
int @_solve(@* s);
void @_get_rates(const @* s, REAL* x);
/* Values that turn from above zero to zero or below, or back, at an event. */
void @_get_indicators(@* s, REAL* g);
/* All derivatives where it stands, for @_moved_along; behind @_solve, and anew when anything has changed. */
void @_differentiate(@* s);
/* How rates, outputs and indicators move where states and inputs move along these: arrays of all of each. */
void @_moved_along(@* s, const REAL* states, const REAL* inputs, REAL* rates, REAL* outputs, REAL* g);
/* An event at the present time. Returns one of the codes above. */
int @_happen(@* s);
/* When something is known to happen next; above 1e300: nothing is. */
double @_next(const @* s);
)",
                                 states(plan).size(), indicators(text, plan).size()));
}

std::string c_derivatives(const CText& text, const FixedPlan& plan)
{
    std::string g;
    std::size_t k = 0;
    for (const Indicator& i : indicators(text, plan))
        g += fmt::format("    g[{}] = {}{}s->m[{}];\n", k++, i.at_zero, i.sign < 0 ? i.at_zero.empty() ? "-" : " - " : "",
                         text.at(plan.condition[i.condition].value));
    if (!plan.condition.empty()) g = text.fill("    @_conditions(s->m);\n") + g;
    std::string out = state_columns(text, plan);
    out += text.fill(fmt::format(R"(
REAL @_param(const @* s, int param)
{{
    return s->m[@_P + param];
}}

void @_put_time(@* s, double t)
{{
    @_set_time(s, t);
}}

void @_put_states(@* s, const REAL* x)
{{
    int k;
    for (k = 0; k < {0}; ++k) s->m[@_Z + @_state_at[k]] = x[k];
}}

void @_get_states(const @* s, REAL* x)
{{
    int k;
    for (k = 0; k < {0}; ++k) x[k] = s->m[@_Z + @_state_at[k]];
}}

void @_get_rates(const @* s, REAL* x)
{{
    int k;
    for (k = 0; k < {0}; ++k) x[k] = s->m[@_W + @_state_at[k]];
}}
)",
                                 states(plan).size()));
    out += solve(text, plan);
    out += text.fill(fmt::format(R"(
void @_get_indicators(@* s, REAL* g)
{{
{0}    (void)s;
    (void)g;
}}

int @_happen(@* s)
{{
    s->factored = 0;
    return @_moment(s, 0);
}}

double @_next(const @* s)
{{
    double next = 1.7976931348623157e308;
    int k;
    for (k = 0; k < {1}; ++k)
        if (s->next[k] < next) next = s->next[k];
    return next;
}}

)",
                                 g, plan.every.size()));
    return out + slopes(text, plan);
}

}  // namespace netloop
