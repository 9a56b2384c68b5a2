// SPDX-License-Identifier: Apache-2.0
#include "figures/analyses.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "figures/page.hpp"
#include "figures/picture_file.hpp"

namespace netloop {
namespace {

using Complex = std::complex<double>;

void draw(const PageContent& page, const AnalysisPicture& picture, int columns)
{
    std::string form = picture_form(picture.out);
    if (form != ".png" && form != ".svg" && form != ".pdf") throw RecordingError(fmt::format("'{}': a figure is written as .png, .svg or .pdf", picture.out));
    PlotRequest request;
    request.title = picture.title;
    request.out = picture.out;
    request.width = picture.width;
    request.height = picture.height;
    request.columns = columns;
    draw_by(
        "gnuplot", [](const std::string&) { return std::vector<std::string>{}; },
        [&](const std::string& unfinished) { return page_script(page, request, unfinished); }, picture.out, picture.inputs);
}

Curve curve(const std::string& label, const std::string& unit, std::size_t quantity, std::vector<double> x, std::vector<double> y)
{
    Curve c;
    c.label = label;
    c.unit = unit;
    c.quantity = quantity;
    c.strokes.push_back({std::move(x), std::move(y)});
    return c;
}

double decibel(Complex v)
{
    return 20 * std::log10(std::abs(v));
}

// Phases that go on where the argument jumps by a turn.
std::vector<double> phases(const std::vector<Complex>& values)
{
    std::vector<double> list;
    double turns = 0;
    for (std::size_t k = 0; k < values.size(); ++k) {
        double phase = std::arg(values[k]) * 180 / std::numbers::pi;
        if (k > 0) {
            while (phase + turns - list.back() > 180) turns -= 360;
            while (phase + turns - list.back() < -180) turns += 360;
        }
        list.push_back(phase + turns);
    }
    return list;
}

PanelContent panel_of(const std::string& x_label, const std::string& x_unit, const std::vector<std::string>& units)
{
    PanelContent p;
    p.x_label = x_label;
    p.x_unit = x_unit;
    p.units = units;
    return p;
}

std::string per(const LinearModel::Signal& output, const LinearModel::Signal& input)
{
    auto name = [](const std::string& unit) { return unit.empty() ? "1" : unit; };
    if (name(output.unit) == name(input.unit)) return "1";
    if (name(input.unit) == "1") return name(output.unit);
    return name(output.unit) + " per " + name(input.unit);
}

// `most`: only those up to this size; 0: all.
PanelContent roots_panel(const TransferFunction& f, double most)
{
    PanelContent p = panel_of("real part", "rad/s", {"rad/s"});
    auto marks = [&](const std::string& label, std::size_t quantity, const std::vector<Complex>& roots, Curve::Mark mark) {
        if (roots.empty()) return;
        std::vector<double> x, y;
        for (Complex r : roots)
            if (most == 0 || std::abs(r) <= most) x.push_back(r.real()), y.push_back(r.imag());
        if (x.empty()) return;
        p.curves.push_back(curve(label, "rad/s", quantity, x, y));
        p.curves.back().mark = mark;
    };
    std::string which = most > 0 ? ", slow ones" : "";
    marks("poles" + which, 0, f.poles, Curve::Mark::cross);
    marks("zeros" + which, 1, f.zeros, Curve::Mark::ring);
    double far = 0;
    for (const auto* list : {&f.poles, &f.zeros})
        for (Complex r : *list)
            if (most == 0 || std::abs(r) <= most) far = std::max(far, std::abs(r.imag()));
    if (far == 0) far = 1;
    p.curves.push_back(curve("above 0 it grows", "rad/s", 6, {0, 0}, {-1.1 * far, 1.1 * far}));
    return p;
}

PanelContent locus_panel(const std::vector<Complex>& values, bool opened)
{
    PanelContent p = panel_of("real part", "1", {"1"});
    // what is far out hides what is near the point that matters
    double limit = 0;
    if (opened) limit = 4;
    std::vector<double> x, y, mirrored;
    for (Complex v : values) {
        bool shown = limit == 0 || std::abs(v) <= limit;
        x.push_back(shown ? v.real() : std::nan(""));
        y.push_back(shown ? v.imag() : std::nan(""));
    }
    for (double v : y) mirrored.push_back(-v);
    p.curves.push_back(curve(opened ? "-L, frequency rising" : "frequency rising", "1", 0, x, y));
    p.curves.push_back(curve("frequency below 0", "1", 3, x, mirrored));
    if (opened) {
        p.curves.push_back(curve("-1", "1", 2, {-1}, {0}));
        p.curves.back().mark = Curve::Mark::cross;
    }
    return p;
}

}  // namespace

void draw_linear(const LinearModel& model, std::size_t input, std::size_t output, const LinearCheck* check, const AnalysisPicture& picture)
{
    const LinearModel::Signal &in = model.inputs.at(input), &out = model.outputs.at(output);
    bool opened = out.name == "source of " + in.name;
    std::vector<double> hertz = model.frequencies(input, output);
    std::vector<Complex> values = model.response(input, output, hertz);
    if (opened)
        for (Complex& v : values) v = -v;  // what comes back against what goes out
    PageContent page;
    PanelContent size = panel_of("frequency", "Hz", {"dB"}), phase = panel_of("frequency", "Hz", {"deg"});
    size.log_x = phase.log_x = true;
    std::vector<double> decibels, degrees = phases(values);
    for (Complex v : values) decibels.push_back(v == 0.0 ? std::nan("") : decibel(v));
    std::string unit = per(out, in);
    size.curves.push_back(curve(fmt::format("amplitude of {} / {}{}", out.name, in.name, unit == "1" ? "" : ", " + unit), "dB", 0, hertz, decibels));
    phase.curves.push_back(curve(opened ? "phase of -L" : "phase", "deg", 0, hertz, degrees));
    if (opened) {
        Margins m = model.margins(input, output);
        if (m.gain_at > 0)
            size.curves.push_back(
                curve(fmt::format("gain margin {:.3g} dB", 20 * std::log10(m.gain)), "dB", 1, {m.gain_at, m.gain_at}, {-20 * std::log10(m.gain), 0}));
        if (m.phase_at > 0) {
            double here = degrees.front();
            for (std::size_t k = 0; k < hertz.size() && hertz[k] <= m.phase_at; ++k) here = degrees[k];
            phase.curves.push_back(curve(fmt::format("phase margin {:.3g} deg", m.phase), "deg", 1, {m.phase_at, m.phase_at}, {here - m.phase, here}));
        }
    }
    TransferFunction f = model.transfer(input, output);
    PanelContent step = panel_of("time after the step", "s", {out.unit.empty() ? "1" : out.unit});
    const LinearCheck::Output* held = nullptr;
    if (check != nullptr && check->input == in.name)
        for (const LinearCheck::Output& o : check->outputs)
            if (o.name == out.name) held = &o;
    double scale = model.in_display_units ? out.scale : 1;
    if (held != nullptr) {
        std::vector<double> real, linear;
        for (std::size_t k = 0; k < held->times.size(); ++k) real.push_back(held->real[k] / scale), linear.push_back(held->linear[k] / scale);
        step.curves.push_back(curve(opened ? "the model itself, loop closed" : "the model itself", step.units[0], 2, held->times, real));
        step.curves.push_back(curve("linear", step.units[0], 0, held->times, linear));
    } else {
        double slowest = HUGE_VAL, fastest = 0;
        for (Complex p : f.poles) fastest = std::max(fastest, std::abs(p));
        for (Complex p : f.poles)
            if (std::abs(p) > 1e-6 * fastest) slowest = std::min(slowest, std::abs(p));
        double until = std::isfinite(slowest) ? 8 / slowest : 1;
        std::vector<double> times;
        for (int k = 0; k <= 400; ++k) times.push_back(until * k / 400);
        step.curves.push_back(curve("answer to a step of 1", step.units[0], 0, times, model.step(input, output, times)));
    }
    page.panels = {size, f.gain == 0 ? step : roots_panel(f, 0), phase, locus_panel(values, opened)};
    if (f.gain != 0) {
        page.panels.push_back(step);
        // fast ones leave the slow ones in one spot
        double largest = 0;
        for (const auto* list : {&f.poles, &f.zeros})
            for (Complex r : *list) largest = std::max(largest, std::abs(r));
        constexpr double kSlow = 0.08;
        if (std::count_if(f.poles.begin(), f.poles.end(), [&](Complex r) { return std::abs(r) <= kSlow * largest; }) > 1)
            page.panels.push_back(roots_panel(f, kSlow * largest));
    }
    draw(page, picture, 2);
}

void draw_answer(const DescriptorModel& model, std::size_t input, std::size_t output, const std::vector<double>& hertz, const AnalysisPicture& picture)
{
    const LinearModel::Signal &in = model.inputs.at(input), &out = model.outputs.at(output);
    const bool opened = out.name == "source of " + in.name;
    std::vector<Complex> values = model.response(input, output, hertz);
    if (opened)
        for (Complex& v : values) v = -v;
    PanelContent size = panel_of("frequency", "Hz", {"dB"}), phase = panel_of("frequency", "Hz", {"deg"});
    size.log_x = phase.log_x = true;
    std::vector<double> decibels;
    for (Complex v : values) decibels.push_back(v == 0.0 ? std::nan("") : decibel(v));
    std::string unit = per(out, in);
    size.curves.push_back(curve(fmt::format("amplitude of {} / {}{}", out.name, in.name, unit == "1" ? "" : ", " + unit), "dB", 0, hertz, decibels));
    phase.curves.push_back(curve(opened ? "phase of -L" : "phase", "deg", 0, hertz, phases(values)));
    PageContent page;
    page.panels = {size, phase};
    draw(page, picture, 1);
}

void draw_modes(const std::vector<Modes>& over_time, std::size_t shown, const AnalysisPicture& picture)
{
    constexpr std::size_t kMostModes = 8, kMostParts = 10;
    PageContent page;
    PanelContent top = panel_of("time", "s", {"Hz"});
    top.log_y = true;
    std::size_t n = 0;
    for (const Modes& m : over_time) n = std::max(n, m.modes.size());
    n = std::min(n, kMostModes);
    for (std::size_t k = 0; k < n; ++k) {
        std::vector<double> x, y;
        for (const Modes& m : over_time) {
            x.push_back(m.time);
            y.push_back(k < m.modes.size() ? m.modes[k].root.frequency() : std::nan(""));
        }
        top.curves.push_back(curve(k == 0 ? "fastest" : fmt::format("{}.", k + 1), "Hz", k, x, y));
        if (x.size() == 1) top.curves.back().mark = Curve::Mark::ring;
    }
    if (over_time.size() > 1) page.panels.push_back(top);
    // parts of the fastest modes of one point, as bars
    const Modes& point = over_time.at(shown);
    std::vector<std::string> parts;
    for (const Mode& m : point.modes) {
        if (&m - point.modes.data() >= static_cast<std::ptrdiff_t>(n)) break;
        for (std::size_t i = 0; i < m.parts.size() && i < 3 && m.parts[i].share > 0.02; ++i)
            if (std::find(parts.begin(), parts.end(), m.parts[i].name) == parts.end() && parts.size() < kMostParts) parts.push_back(m.parts[i].name);
    }
    if (!parts.empty()) {
        std::string axis = kPartAxis;
        PanelContent bars = panel_of(fmt::format("shares of parts in the modes at {:.6g} s, fastest first", point.time), "%", {axis});
        std::vector<std::string> names;
        for (auto p = parts.rbegin(); p != parts.rend(); ++p) names.push_back(p->empty() ? "the system" : *p);
        // the modes that a part takes part in share its row
        constexpr double kLeast = 0.01, kRow = 0.8;
        std::vector<std::size_t> bars_in(parts.size()), made(parts.size());
        auto each_bar = [&](const Mode& m, auto&& visit) {
            for (const Mode::Part& part : m.parts)
                if (auto at = std::find(parts.begin(), parts.end(), part.name); at != parts.end() && part.share >= kLeast)
                    visit(static_cast<std::size_t>(at - parts.begin()), part.share);
        };
        for (std::size_t k = 0; k < n && k < point.modes.size(); ++k) each_bar(point.modes[k], [&](std::size_t row, double) { ++bars_in[row]; });
        for (std::size_t k = 0; k < n && k < point.modes.size(); ++k) {
            const Mode& m = point.modes[k];
            Curve c = curve(fmt::format("{}. {:.4g} Hz", k + 1, m.root.frequency()), axis, k, {}, {});
            c.strokes.clear();
            c.stages = names;
            c.mark = Curve::Mark::bar;
            each_bar(m, [&](std::size_t row, double share) {
                const double high = kRow / static_cast<double>(std::max<std::size_t>(bars_in[row], 2));
                const double above =
                    static_cast<double>(parts.size() - row) + 0.5 * high * static_cast<double>(bars_in[row]) - high * static_cast<double>(made[row]++);
                c.strokes.push_back({{0, 100 * share}, {above - high, above - 0.1 * high}});
            });
            if (!c.strokes.empty()) bars.curves.push_back(std::move(c));
        }
        page.panels.push_back(bars);
    }
    if (page.panels.empty()) throw RecordingError("there are no modes to draw");
    draw(page, picture, 1);
}

void draw_cost(const Cost& cost, const AnalysisPicture& picture)
{
    constexpr std::size_t kMostNamed = 7;
    PageContent page;
    PanelContent lengths = panel_of("time", "s", {"s"}), sum = panel_of("time", "s", {"1"});
    lengths.log_y = true;
    lengths.shares_x = sum.shares_x = true;
    constexpr double kLeast = 1e-6;  // of the longest: the first steps of all are far shorter, and would take the axis
    double all = 0, longest = 0;
    for (const Cost::Limit& l : cost.limits) all += l.steps;
    for (const Cost::Stretch& s : cost.stretches) longest = std::max(longest, s.longest);
    std::size_t named = std::min(cost.limits.size(), kMostNamed);
    for (std::size_t k = 0; k <= named; ++k) {
        bool others = k == named;
        std::string label = others ? "other" : fmt::format("{} {:.0f} %", cost.limits[k].what, 100 * cost.limits[k].steps / all);
        if (label.size() > 60) label = label.substr(0, 57) + "...";
        Curve c = curve(label, "s", k, {}, {});
        c.strokes.clear();
        bool open = false;
        for (const Cost::Stretch& s : cost.stretches) {
            bool mine = others ? s.limit >= named : s.limit == k;
            double mean = (s.to - s.from) / std::max(s.steps, 1.0);
            if (!mine || !(mean > kLeast * longest)) {
                open = false;
                continue;
            }
            if (!open) c.strokes.emplace_back();
            open = true;
            for (double t : {s.from, s.to}) c.strokes.back().x.push_back(t), c.strokes.back().y.push_back(mean);
        }
        if (!c.strokes.empty()) {
            // one line with gaps: earlier strokes are not earlier cycles
            Stroke whole;
            for (const Stroke& s : c.strokes) {
                whole.x.insert(whole.x.end(), s.x.begin(), s.x.end());
                whole.y.insert(whole.y.end(), s.y.begin(), s.y.end());
                whole.x.push_back(s.x.back());
                whole.y.push_back(std::nan(""));
            }
            c.strokes = {whole};
            lengths.curves.push_back(std::move(c));
        }
    }
    std::vector<double> x, y;
    double made = 0;
    for (const Cost::Stretch& s : cost.stretches) {
        if (x.empty()) x.push_back(s.from), y.push_back(0);
        made += s.steps;
        x.push_back(s.to);
        y.push_back(made);
    }
    sum.curves.push_back(curve("steps made", "1", 6, x, y));
    page.panels = {lengths, sum};
    draw(page, picture, 1);
}

}  // namespace netloop
