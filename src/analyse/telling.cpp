// SPDX-License-Identifier: Apache-2.0
// Linear models and modes in words and as JSON.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "netloop/linear_model.hpp"
#include "netloop/modes.hpp"
#include "record/json_number.hpp"

namespace netloop {
namespace {

using Complex = std::complex<double>;

// "s^2 + 2 s + 1"
std::string polynomial_text(const std::vector<double>& coefficients)
{
    std::string text;
    for (std::size_t k = 0; k < coefficients.size(); ++k) {
        double v = coefficients[k];
        std::size_t power = coefficients.size() - 1 - k;
        if (v == 0 && coefficients.size() > 1) continue;
        std::string number = fmt::format("{:.6g}", std::abs(v));
        std::string s = power == 0 ? "" : power == 1 ? "s" : fmt::format("s^{}", power);
        std::string term = s.empty() ? number : number == "1" ? s : number + " " + s;
        text += text.empty() ? (v < 0 ? "-" : "") + term : (v < 0 ? " - " : " + ") + term;
    }
    return text.empty() ? "0" : text;
}

// "(s + 3) (s^2 + 2 s + 5)"
std::string factors_text(const std::vector<Complex>& roots)
{
    std::string text;
    std::size_t at_zero = static_cast<std::size_t>(std::count(roots.begin(), roots.end(), Complex(0)));
    if (at_zero > 0) text = at_zero == 1 ? "s" : fmt::format("s^{}", at_zero);
    for (Complex r : roots) {
        if (r.imag() < 0 || r == 0.0) continue;
        std::string factor = "(" + (r.imag() == 0 ? polynomial_text({1, -r.real()}) : polynomial_text({1, -2 * r.real(), std::norm(r)})) + ")";
        text += (text.empty() ? "" : " ") + factor;
    }
    return text;
}

bool several_terms(const std::string& text)
{
    return text.find(' ', 1) != std::string::npos;
}

std::string root_text(Complex r)
{
    return r.imag() == 0 ? fmt::format("{:.6g}", r.real()) : fmt::format("{:.6g} +/- {:.6g} i", r.real(), std::abs(r.imag()));
}

std::string with_unit(double value, const std::string& unit)
{
    return fmt::format("{:.6g}{}", value, unit.empty() || unit == "1" ? "" : " " + unit);
}

nlohmann::json json_of(Complex v)
{
    return nlohmann::json::array({json_number(v.real()), json_number(v.imag())});
}

nlohmann::json json_of(const std::vector<Complex>& list)
{
    nlohmann::json all = nlohmann::json::array();
    for (Complex v : list) all.push_back(json_of(v));
    return all;
}

nlohmann::json json_of(const Matrix& m)
{
    nlohmann::json rows = nlohmann::json::array();
    for (std::size_t i = 0; i < m.rows; ++i) {
        nlohmann::json row = nlohmann::json::array();
        for (std::size_t k = 0; k < m.columns; ++k) row.push_back(json_number(m(i, k)));
        rows.push_back(std::move(row));
    }
    return rows;
}

nlohmann::json json_of(const SparseMatrix& m)
{
    nlohmann::json values = nlohmann::json::array();
    for (double v : m.value) values.push_back(json_number(v));
    return {{"rows", m.rows}, {"columns", m.columns}, {"row", m.row}, {"column", m.column}, {"value", values}};
}

nlohmann::json json_of(const std::vector<LinearModel::Signal>& list)
{
    nlohmann::json all = nlohmann::json::array();
    for (const LinearModel::Signal& s : list)
        all.push_back({{"name", s.name}, {"unit", s.unit}, {"display_unit", s.display}, {"scale", s.scale}, {"value", json_number(s.at)}});
    return all;
}

nlohmann::json json_of(const Root& r)
{
    return {{"value", json_of(r.value)}, {"frequency", r.frequency()}, {"damping", r.damping()}, {"time_constant", json_number(r.time_constant())}};
}

std::string root_line(const Root& r)
{
    Complex v = r.value;
    if (v.imag() == 0 && v.real() == 0) return "0: it neither settles nor grows";
    std::string line = v.imag() != 0 ? fmt::format("{:<28} {:>11.5g} Hz   damping {:.4g}", root_text(v), r.frequency(), r.damping())
                                     : fmt::format("{:<28} time constant {:.5g} s", root_text(v), std::abs(r.time_constant()));
    return line + (v.real() > 0 ? "   grows" : "");
}

// "states    leaf.angle   at 3.2 deg"
std::string signals_text(const char* what, const std::vector<LinearModel::Signal>& signals)
{
    constexpr std::size_t kMost = 40;
    std::string out;
    for (std::size_t i = 0; i < signals.size() && i < kMost; ++i)
        out += fmt::format("  {:<8} {:<40} at {}\n", i == 0 ? what : "", signals[i].name, with_unit(signals[i].at / signals[i].scale, signals[i].display));
    if (signals.size() > kMost) out += fmt::format("  {:<8} and {} more\n", "", signals.size() - kMost);
    return out;
}

std::string counted(std::size_t n, const char* what)
{
    return fmt::format("{} {}{}", n, what, n == 1 ? "" : "s");
}

std::string state_text(const Mode::State& s)
{
    return fmt::format("{} {:.0f} %", s.name, 100 * s.share);
}

}  // namespace

std::string TransferFunction::text() const
{
    constexpr std::size_t kMostWritten = 8;
    if (gain == 0) return "0";
    if (poles.size() > kMostWritten || zeros.size() > kMostWritten) {
        std::string above = factors_text(zeros), below = factors_text(poles);
        std::string text = fmt::format("{:.6g}{}", gain, above.empty() ? "" : " " + above);
        return below.empty() ? text : text + " / (" + below + ")";
    }
    std::string above = polynomial_text(numerator()), below = polynomial_text(denominator());
    if (below == "1") return above;
    return (several_terms(above) ? "(" + above + ")" : above) + " / " + (several_terms(below) ? "(" + below + ")" : below);
}

std::string LinearModel::text(double tolerance) const
{
    std::string out = fmt::format("linear model at {:.9g} s, in {}: {}, {}, {}\n", time, in_display_units ? "the units of the declarations" : "SI",
                                  counted(states.size(), "state"), counted(inputs.size(), "input"), counted(outputs.size(), "output"));
    out += signals_text("states", states) + signals_text("inputs", inputs) + signals_text("outputs", outputs);
    std::vector<Root> roots = poles();
    out += roots.empty() ? "\nno poles\n" : "\npoles, rad/s\n";
    constexpr std::size_t kMostPoles = 60;
    std::size_t shown = 0;
    for (const Root& r : roots)
        if (r.value.imag() >= 0 && ++shown <= kMostPoles) out += "  " + root_line(r) + "\n";
    if (shown > kMostPoles) out += fmt::format("  and {} faster ones\n", shown - kMostPoles);
    for (std::size_t o = 0; o < outputs.size(); ++o)
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            TransferFunction f = transfer(i, o, tolerance);
            out += fmt::format("\n{} / {}, {} per {}\n  {}\n", outputs[o].name, inputs[i].name, outputs[o].unit.empty() ? "1" : outputs[o].unit,
                               inputs[i].unit.empty() ? "1" : inputs[i].unit, f.text());
            if (f.gain == 0) continue;
            std::string zeros;
            for (Complex z : f.zeros)
                if (z.imag() >= 0) zeros += (zeros.empty() ? "" : ",  ") + root_text(z);
            if (!zeros.empty()) out += "  zeros " + zeros + "\n";
            double steady = f.steady_gain();
            out += std::isfinite(steady) ? fmt::format("  steady gain {:.6g}\n", steady) : "  no steady gain: a pole at 0\n";
            if (!f.cancelled.empty()) {
                std::string pairs;
                for (const auto& [pole, zero] : f.cancelled)
                    if (pole.imag() >= 0) pairs += (pairs.empty() ? "" : ",  ") + root_text(pole);
                out += fmt::format("  left out, pole and zero being the same within {:g}: {}\n", tolerance, pairs);
            }
            constexpr double kGood = 1e-6;
            if (f.error > kGood) out += fmt::format("  by rounding the quotient differs from the matrices by up to {:.2g} of its value: use those\n", f.error);
        }
    for (const std::string& note : notes) out += "\nnote: " + note + "\n";
    return out;
}

std::string LinearModel::json(double tolerance) const
{
    nlohmann::json all{{"time", time},
                       {"units", in_display_units ? "display" : "SI"},
                       {"states", json_of(states)},
                       {"inputs", json_of(inputs)},
                       {"outputs", json_of(outputs)},
                       {"a", json_of(a)},
                       {"b", json_of(b)},
                       {"c", json_of(c)},
                       {"d", json_of(d)},
                       {"notes", notes}};
    if (!e.values.empty()) all["e"] = json_of(e);
    if (!e2.values.empty()) all["e2"] = json_of(e2);
    all["poles"] = nlohmann::json::array();
    for (const Root& r : poles()) all["poles"].push_back(json_of(r));
    all["transfer"] = nlohmann::json::array();
    for (std::size_t o = 0; o < outputs.size(); ++o)
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            TransferFunction f = transfer(i, o, tolerance);
            nlohmann::json pairs = nlohmann::json::array();
            for (const auto& [pole, zero] : f.cancelled) pairs.push_back({{"pole", json_of(pole)}, {"zero", json_of(zero)}});
            all["transfer"].push_back({{"input", inputs[i].name},
                                       {"output", outputs[o].name},
                                       {"zeros", json_of(f.zeros)},
                                       {"poles", json_of(f.poles)},
                                       {"gain", json_number(f.gain)},
                                       {"steady_gain", json_number(f.gain == 0 ? 0 : f.steady_gain())},
                                       {"numerator", f.numerator()},
                                       {"denominator", f.denominator()},
                                       {"cancelled", pairs},
                                       {"error", json_number(f.error)},
                                       {"text", f.text()}});
        }
    return all.dump(1);
}

std::string DescriptorModel::text() const
{
    std::string out = fmt::format("linear model at {:.9g} s, in {}: {}, {}, {}\n", time, in_display_units ? "the units of the declarations" : "SI",
                                  counted(n_states, "state"), counted(inputs.size(), "input"), counted(outputs.size(), "output"));
    out += fmt::format("  as sparse matrices: E z' = A z + B u, y = C z + D u with {}; numbers in E {}, A {}, B {}, C {}, D {}\n",
                       counted(unknowns.size(), "unknown"), e.value.size(), a.value.size(), b.value.size(), c.value.size(), d.value.size());
    out += signals_text("inputs", inputs) + signals_text("outputs", outputs);
    for (std::size_t o = 0; o < outputs.size(); ++o)
        for (std::size_t i = 0; i < inputs.size(); ++i) {
            double gain = response(i, o, {0})[0].real();
            out += fmt::format("\n{} / {}, {} per {}\n  {}\n", outputs[o].name, inputs[i].name, outputs[o].unit.empty() ? "1" : outputs[o].unit,
                               inputs[i].unit.empty() ? "1" : inputs[i].unit,
                               std::isfinite(gain) ? fmt::format("steady gain {:.6g}", gain) : "no steady gain: a pole at 0");
        }
    for (const std::string& note : notes) out += "\nnote: " + note + "\n";
    return out;
}

std::string DescriptorModel::json() const
{
    nlohmann::json all{{"time", time},
                       {"units", in_display_units ? "display" : "SI"},
                       {"states", n_states},
                       {"unknowns", json_of(unknowns)},
                       {"inputs", json_of(inputs)},
                       {"outputs", json_of(outputs)},
                       {"e", json_of(e)},
                       {"a", json_of(a)},
                       {"b", json_of(b)},
                       {"c", json_of(c)},
                       {"d", json_of(d)},
                       {"notes", notes}};
    return all.dump(1);
}

double LinearCheck::worst() const
{
    double most = 0;
    for (const Output& o : outputs)
        if (o.range > 0) most = std::max(most, o.largest / o.range);
    return most;
}

std::string LinearCheck::text() const
{
    std::string out;
    for (const Output& o : outputs)
        out += o.range > 0
                   ? fmt::format("held against the model itself over {:.4g} s{}: {} differs by at most {:.2g} % of its answer ({:.4g} s after the step)\n",
                                 until, ended_by_event ? ", up to an event" : "", o.name, 100 * o.largest / o.range, o.at)
                   : fmt::format("held against the model itself: {} does not answer\n", o.name);
    return out;
}

std::string Mode::parts_text(std::size_t most) const
{
    constexpr double kLeast = 0.005;
    std::string text;
    for (std::size_t k = 0; k < parts.size() && k < most; ++k) {
        if (k > 0 && parts[k].share < kLeast) break;
        text += fmt::format("{}{} {:.0f} %", k == 0 ? "" : ", ", parts[k].name.empty() ? "the system" : parts[k].name, 100 * parts[k].share);
    }
    return text;
}

std::string Modes::text(std::size_t detailed) const
{
    if (n_states == 0) return fmt::format("at {:.9g} s there are no states, and no modes\n", time);
    std::string out = fmt::format("modes at {:.9g} s, fastest first: {} of {}\n\n", time, modes.size(), counted(n_states, "state"));
    out += fmt::format("  {:>3}  {:>12}  {:>9}  {:>13}  parts\n", "", "frequency", "damping", "time constant");
    for (std::size_t k = 0; k < modes.size(); ++k) {
        const Mode& m = modes[k];
        bool rests = m.root.value == 0.0;
        out += fmt::format("  {:>3}  {:>12}  {:>9}  {:>13}  {}{}\n", k + 1, m.swings() ? fmt::format("{:.5g} Hz", m.root.frequency()) : "-",
                           m.swings() ? fmt::format("{:.4g}", m.root.damping()) : "-", rests ? "-" : fmt::format("{:.4g} s", std::abs(m.root.time_constant())),
                           m.parts_text(),
                           rests                                                 ? " (rests)"
                           : m.root.value.real() > 1e-9 * std::abs(m.root.value) ? "  GROWS"
                                                                                 : "");
    }
    for (std::size_t k = 0; k < modes.size() && k < detailed; ++k) {
        const Mode& m = modes[k];
        out += fmt::format("\nmode {}: {}\n  states ", k + 1, root_text(m.root.value) + " rad/s");
        constexpr std::size_t kMostStates = 5, kMostParams = 6;
        for (std::size_t i = 0; i < m.states.size() && i < kMostStates && (i == 0 || m.states[i].share >= 0.005); ++i)
            out += (i == 0 ? " " : ", ") + state_text(m.states[i]);
        out += "\n";
        for (std::size_t i = 0; i < m.params.size() && i < kMostParams; ++i) {
            const Mode::Param& p = m.params[i];
            out += fmt::format("  {} {:<36} one percent more: {:+.3f} % of {}{}\n", i == 0 ? "moved by" : "        ", p.name, p.frequency,
                               m.swings() ? "frequency" : "rate", m.swings() ? fmt::format(", damping {:+.2g}", p.damping) : "");
        }
    }
    return out;
}

std::string Modes::json() const
{
    nlohmann::json all{{"time", time}, {"states", n_states}, {"modes", nlohmann::json::array()}};
    for (const Mode& m : modes) {
        nlohmann::json states_told = nlohmann::json::array(), parts_told = nlohmann::json::array(), params_told = nlohmann::json::array();
        for (const Mode::State& s : m.states)
            states_told.push_back({{"name", s.name},
                                   {"part", s.part},
                                   {"share", json_number(s.share)},
                                   {"amplitude", json_number(s.amplitude)},
                                   {"phase", json_number(s.phase)}});
        for (const Mode::Part& p : m.parts) parts_told.push_back({{"name", p.name}, {"share", json_number(p.share)}});
        for (const Mode::Param& p : m.params)
            params_told.push_back({{"name", p.name},
                                   {"unit", p.unit},
                                   {"value", json_number(p.value)},
                                   {"slope", json_of(p.slope)},
                                   {"frequency_percent", json_number(p.frequency)},
                                   {"damping", json_number(p.damping)}});
        nlohmann::json told = json_of(m.root);
        told["states"] = states_told;
        told["parts"] = parts_told;
        told["params"] = params_told;
        all["modes"].push_back(std::move(told));
    }
    return all.dump(1);
}

}  // namespace netloop
