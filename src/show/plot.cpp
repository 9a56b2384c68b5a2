#include "show/plot.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <filesystem>

#include "show/picture_file.hpp"

namespace netloop {
namespace {

namespace fs = std::filesystem;

// Colours told apart on white and by most people with a colour weakness; the line style changes with the round.
constexpr const char* kColours[] = {"#1b6ca8", "#c8553d", "#2a9134", "#8e44ad", "#b8860b", "#17838c", "#7a4419", "#d81e7f"};

struct Curve {
    const Column* x = nullptr;
    const Column* y = nullptr;
    const Recording* recording = nullptr;
    std::string label;
};

struct Panel {
    std::vector<std::string> units;  ///< one or two
    std::vector<Curve> curves;
};

// gnuplot's double-quoted strings: backslash, quote and the marks of enhanced text
std::string escaped(const std::string& text)
{
    std::string out;
    for (char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        if (c == '\n')
            out += ' ';
        else
            out += c;
    }
    return out;
}

std::string unit_label(const Column& c)
{
    return c.unit.empty() ? "" : c.unit;
}

// Columns in other units than their own, kept while they are drawn.
using Converted = std::deque<Column>;

const Column* in_unit(const Column& c, const std::string& unit, Converted& kept)
{
    if (unit.empty() || unit == c.unit) return &c;
    kept.push_back(c.in(unit));
    // in() gives numbers of that unit; here columns hold SI and say how they are shown
    Column& made = kept.back();
    made.unit = unit;
    return &made;
}

std::vector<Curve> find_curves(const std::vector<Recording>& recordings, const std::vector<std::string>& names, const std::vector<std::string>& quantities,
                               const FigureRequest::Curve& against, Converted& kept)
{
    std::vector<Curve> curves;
    for (const std::string& asked : quantities) {
        std::size_t only = 0;
        std::string wanted = asked, unit;
        // a unit behind the last colon, unless what stands before it is the number of a recording
        if (std::size_t colon = wanted.rfind(':'); colon != std::string::npos && wanted.find_first_not_of("0123456789") < colon)
            unit = wanted.substr(colon + 1), wanted.resize(colon);
        std::string path = wanted;
        if (std::size_t colon = wanted.find(':');
            colon != std::string::npos && colon > 0 &&
            std::all_of(wanted.begin(), wanted.begin() + static_cast<long>(colon), [](char c) { return c >= '0' && c <= '9'; }) && colon < 4) {
            only = std::stoul(wanted.substr(0, colon));
            path = wanted.substr(colon + 1);
            if (only < 1 || only > recordings.size()) throw RecordingError(fmt::format("'{}': there are {} recordings", wanted, recordings.size()));
        }
        for (std::size_t r = 0; r < recordings.size(); ++r) {
            if (only != 0 && r + 1 != only) continue;
            Curve c;
            c.recording = &recordings[r];
            // one quantity may exist in one recording only, when several are compared
            if (recordings.size() > 1 && only == 0 && recordings[r].find(path) == nullptr) {
                bool elsewhere = std::any_of(recordings.begin(), recordings.end(), [&](const Recording& other) { return other.find(path) != nullptr; });
                if (elsewhere) continue;
            }
            c.y = in_unit(recordings[r][path], unit, kept);
            c.x = against.path.empty() ? &recordings[r].time() : in_unit(recordings[r][against.path], against.unit, kept);
            c.label = recordings.size() > 1 ? fmt::format("{} ({})", path, names[r]) : path;
            curves.push_back(c);
        }
    }
    return curves;
}

// Units in the order in which they are first met, two to a panel while there are at most two, else one panel each.
std::vector<Panel> arrange(const std::vector<Curve>& curves)
{
    std::vector<std::string> units;
    for (const Curve& c : curves)
        if (std::find(units.begin(), units.end(), unit_label(*c.y)) == units.end()) units.push_back(unit_label(*c.y));
    std::vector<Panel> panels;
    if (units.size() <= 2) {
        panels.push_back({units, curves});
        return panels;
    }
    for (const std::string& u : units) {
        Panel p{{u}, {}};
        for (const Curve& c : curves)
            if (unit_label(*c.y) == u) p.curves.push_back(c);
        panels.push_back(std::move(p));
    }
    return panels;
}

// What goes onto the page: the panels asked for, or those that the units need.
std::vector<Panel> find_panels(const std::vector<Recording>& recordings, const std::vector<std::string>& names, const PlotRequest& request, Converted& kept)
{
    std::vector<Panel> panels;
    auto add = [&](const std::vector<std::string>& quantities, const FigureRequest::Curve& against, bool alone) {
        std::vector<Curve> curves = find_curves(recordings, names, quantities, against, kept);
        if (curves.empty()) throw RecordingError("nothing to draw: name at least one quantity");
        std::vector<Panel> made = arrange(curves);
        if (alone && made.size() > 1) throw RecordingError("a panel has room for two units, one on each side");
        panels.insert(panels.end(), made.begin(), made.end());
    };
    for (const FigureRequest::Panel& p : request.panels) {
        std::vector<std::string> quantities;
        for (const FigureRequest::Curve& c : p.curves) quantities.push_back(c.unit.empty() ? c.path : c.path + ":" + c.unit);
        add(quantities, p.against.path == "time" ? FigureRequest::Curve{} : p.against, true);
    }
    if (!request.panels.empty()) return panels;
    FigureRequest::Curve against{request.against, ""};
    if (std::size_t colon = against.path.rfind(':'); colon != std::string::npos) against.unit = against.path.substr(colon + 1), against.path.resize(colon);
    std::vector<std::string> quantities;
    bool split = std::find(request.quantities.begin(), request.quantities.end(), "/") != request.quantities.end();
    for (const std::string& q : request.quantities) {
        if (q != "/") {
            quantities.push_back(q);
            continue;
        }
        add(quantities, against, true);
        quantities.clear();
    }
    add(quantities, against, split);
    return panels;
}

// A round distance between tics that gives about `wanted` of them.
double round_step(double low, double high, int wanted)
{
    double raw = (high - low) / wanted;
    if (!(raw > 0) || !std::isfinite(raw)) return 0;
    double power = std::pow(10, std::floor(std::log10(raw))), lead = raw / power;
    return power * (lead <= 1 ? 1 : lead <= 2 ? 2 : lead <= 5 ? 5 : 10);
}

// Tics of one y axis: few enough for the height of the panel that their numbers stand apart.
std::string tics(const Panel& panel, std::size_t unit, std::size_t n_panels, int height)
{
    double low = HUGE_VAL, high = -HUGE_VAL;
    for (const Curve& c : panel.curves) {
        if (unit_label(*c.y) != panel.units[unit]) continue;
        for (double v : c.y->values) {
            double shown = (v - c.y->offset) / c.y->scale;
            if (!std::isfinite(shown)) continue;
            low = std::min(low, shown);
            high = std::max(high, shown);
        }
    }
    double step = round_step(low, high, std::clamp((height / static_cast<int>(n_panels) - 60) / 28, 2, 8));
    return step > 0 ? fmt::format(" {:.6g}", step) : "";
}

std::string script(const std::vector<Panel>& panels, const PlotRequest& request, const std::string& out)
{
    std::string form = fs::path(request.out).extension().string();
    std::string s;
    if (form == ".pdf")
        s += fmt::format("set terminal pdfcairo size {:.3f}in,{:.3f}in font 'DejaVu Sans,10' background '#ffffff' noenhanced\n", request.width / 110.0,
                         request.height / 110.0);
    else
        s += fmt::format("set terminal {} size {},{} font 'DejaVu Sans,{}' {}\n", form == ".svg" ? "svg" : "pngcairo", request.width, request.height, 13,
                         form == ".svg" ? "background '#ffffff'" : "background '#ffffff' noenhanced");
    s += fmt::format("set output \"{}\"\nset termoption noenhanced\n", escaped(out));
    s += "set border 3 lc rgb '#555555'\nset tics nomirror textcolor rgb '#333333'\nset grid lt 1 lc rgb '#d4d4d4' lw 1\nset key top right outside horizontal "
         "samplen 2\n";
    s += fmt::format("set lmargin {}\nset rmargin 5\n", panels.size() > 1 ? 13 : 11);
    if (panels.size() > 1)
        s += fmt::format("set multiplot layout {},1{}\n", panels.size(),
                         request.title.empty() ? "" : fmt::format(" title \"{}\\n\"", escaped(request.title)));  // a line of air above the legend
    else if (!request.title.empty())
        s += fmt::format("set title \"{}\"\n", escaped(request.title));
    int number = 0;
    for (std::size_t p = 0; p < panels.size(); ++p) {
        const Panel& panel = panels[p];
        const Column& x = *panel.curves[0].x;
        bool bottom = p + 1 == panels.size() || panels[p + 1].curves[0].x->name != x.name;
        s += bottom ? fmt::format("set xlabel \"{}\"\nset format x\n", escaped(fmt::format("{} [{}]", x.name, x.unit))) : "unset xlabel\nset format x ''\n";
        if (request.from || request.to)
            s += x.name == "time" ? fmt::format("set xrange [{}:{}]\n", request.from ? fmt::format("{:.12g}", *request.from) : "",
                                                request.to ? fmt::format("{:.12g}", *request.to) : "")
                                  : "set xrange [*:*]\n";
        auto axis = [](const std::string& unit) { return unit.empty() || unit == "1" ? std::string("[-]") : "[" + unit + "]"; };
        s += fmt::format("set ylabel \"{}\"\nset autoscale yfix\nset autoscale y2fix\nset offsets 0,0,graph 0.06,graph 0.06\nset ytics nomirror{}\n",
                         escaped(axis(panel.units[0])), tics(panel, 0, panels.size(), request.height));
        bool two = panel.units.size() > 1;
        s += two ? fmt::format("set rmargin 11\nset y2label \"{}\"\nset y2tics{}\nset border 11 lc rgb '#555555'\n", escaped(axis(panel.units[1])),
                               tics(panel, 1, panels.size(), request.height))
                 : "unset y2label\nunset y2tics\nset border 3 lc rgb '#555555'\n";
        s += "plot ";
        for (std::size_t k = 0; k < panel.curves.size(); ++k) {
            const Curve& c = panel.curves[k];
            bool right = two && unit_label(*c.y) == panel.units[1];
            std::string label = c.label + (two ? (right ? " (right)" : " (left)") : "");
            s += fmt::format("{}'-' using 1:2 axes x1y{} with lines lw 2 dt {} lc rgb '{}' title \"{}\"", k == 0 ? "" : ", ", right ? 2 : 1, 1 + number / 8 % 4,
                             kColours[number % 8], escaped(label));
            ++number;
        }
        s += "\n";
        for (const Curve& c : panel.curves) {
            for (std::size_t i = 0; i < c.y->values.size(); ++i) {
                double t = c.recording->time().values[i];
                if (x.name != "time" && ((request.from && t < *request.from) || (request.to && t > *request.to))) continue;
                s += fmt::format("{:.9g} {:.9g}\n", (c.x->values[i] - c.x->offset) / c.x->scale, (c.y->values[i] - c.y->offset) / c.y->scale);
            }
            s += "e\n";
        }
    }
    if (panels.size() > 1) s += "unset multiplot\n";
    return s;
}

}  // namespace

void plot(const std::vector<Recording>& recordings, const std::vector<std::string>& names, const PlotRequest& request)
{
    std::string form = fs::path(request.out).extension().string();
    if (form != ".png" && form != ".svg" && form != ".pdf") throw RecordingError(fmt::format("'{}': a figure is written as .png, .svg or .pdf", request.out));
    std::error_code error;
    fs::path folder = fs::path(request.out).parent_path();
    if (!folder.empty() && !fs::is_directory(folder, error))
        throw RecordingError(fmt::format("'{}' cannot be written: there is no folder '{}'", request.out, folder.string()));
    Converted kept;
    std::vector<Panel> panels = find_panels(recordings, names, request, kept);
    for (const Panel& p : panels)
        for (const Curve& c : p.curves)
            if (c.y->values.empty()) throw RecordingError(fmt::format("'{}' has no rows", c.y->name));
    draw_by("gnuplot", "gnuplot 2>/dev/null", script(panels, request, unfinished_picture(request.out)), request.out);
}

}  // namespace netloop
