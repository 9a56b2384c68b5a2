// SPDX-License-Identifier: Apache-2.0
// Published problems, by Net Loop and by programs of general numerics: digits and times, worst first, and pictures of work against digits.
//   build/release/bench/netloop_published [part of a name] [--rows n] [--picture file.svg]
// A run's digits are -log10 of its largest error over all states at five times, each by the largest value of that state; the reference (see solvers.hpp)
// is checked against the digits that the literature prints. Times at 2, 3 .. 9 digits are interpolated between runs at tolerances of 1e-2 .. 1e-12,
// in logarithms.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <map>
#include <netloop/netloop.hpp>

#include "../verified.hpp"
#include "solvers.hpp"

namespace {

using namespace published;

constexpr std::size_t kTimes = 5;
constexpr int kLeastDigits = 2, kMostDigits = 9;

struct Point {
    double digits = 0, seconds = 0;
    long steps = 0;
};
using Curve = std::vector<Point>;

struct Judge {
    std::vector<std::vector<double>> wanted;
    double known = 16;  ///< digits that the reference has: more are not told apart
    double digits(const std::vector<std::vector<double>>& got) const
    {
        double worst = 1e-16;
        for (std::size_t s = 0; s < wanted[0].size(); ++s) {
            double size = 0, off = 0;
            for (std::size_t t = 0; t < wanted.size(); ++t) {
                size = std::max(size, std::abs(wanted[t][s]));
                if (!std::isfinite(got[t][s])) return -1;
                off = std::max(off, std::abs(wanted[t][s] - got[t][s]));
            }
            if (size > 0) worst = std::max(worst, off / size);
        }
        return std::min(known, -std::log10(worst));
    }
};

int repeats(double seconds)
{
    return seconds < 0.002 ? 20 : seconds < 0.02 ? 7 : seconds < 0.2 ? 3 : 1;
}

// Seconds at so many digits; NaN where no run comes so near. Between two runs in logarithms; less digits than the loosest run has cost what it costs.
double at_digits(Curve curve, double digits)
{
    std::sort(curve.begin(), curve.end(), [](const Point& a, const Point& b) { return a.digits < b.digits; });
    double best = std::nan("");
    // the fastest that has as many or more, and what lies between neighbours
    for (const Point& p : curve)
        if (p.digits >= digits && !(p.seconds >= best)) best = p.seconds;
    for (std::size_t i = 0; i + 1 < curve.size(); ++i) {
        const Point &a = curve[i], &b = curve[i + 1];
        if (a.digits > digits || b.digits < digits || b.digits - a.digits < 1e-9) continue;
        double t = std::exp(std::log(a.seconds) + (digits - a.digits) / (b.digits - a.digits) * std::log(b.seconds / a.seconds));
        if (!(t >= best)) best = t;
    }
    return best;
}

std::string time_text(double seconds)
{
    if (!std::isfinite(seconds)) return "-";
    return seconds < 1e-3 ? fmt::format("{:.0f} us", 1e6 * seconds) : seconds < 1 ? fmt::format("{:.3g} ms", 1e3 * seconds) : fmt::format("{:.3g} s", seconds);
}
std::string ratio_text(double r)
{
    return std::isfinite(r) ? fmt::format("{:.2f}", r) : "-";
}

std::vector<double> row_times(double stop, std::size_t rows)
{
    std::vector<double> times;
    for (std::size_t k = 1; k <= rows; ++k) times.push_back(stop * static_cast<double>(k) / static_cast<double>(rows));
    return times;
}

template <class Rows>
std::vector<std::vector<double>> five_of(const Rows& rows)
{
    std::vector<std::vector<double>> five;
    for (std::size_t k = 1; k <= kTimes; ++k) five.push_back(rows[k * rows.size() / kTimes - 1]);
    return five;
}

Curve by(const Way& way, const Problem& p, const Judge& judge, std::size_t rows)
{
    Curve curve;
    std::vector<double> times = row_times(p.stop, rows);
    for (int e = 2; e <= 12; ++e) {
        Solved best = way.solve(p, std::pow(10, -e), times);
        if (!best.done) {
            if (best.seconds > 10) break;
            continue;
        }
        double digits = judge.digits(five_of(best.rows));
        for (int k = repeats(best.seconds); k > 1; --k) best.seconds = std::min(best.seconds, way.solve(p, std::pow(10, -e), times).seconds);
        curve.push_back({digits, best.seconds, best.steps});
        if (digits > kMostDigits + 0.5 || digits == judge.known || best.seconds > 5) break;
    }
    return curve;
}

struct Ours {
    Curve curve;
    std::string how;
};

Ours by_net_loop(const netloop::CompiledSystem& system, const Problem& p, const std::string& method, const Judge& judge, std::size_t rows)
{
    Ours ours;
    std::vector<double> times = row_times(p.stop, kTimes);
    for (int e = 2; e <= 12; ++e) {
        netloop::RunOptions options;
        options.stop = p.stop;
        options.output_every = p.stop / static_cast<double>(rows);
        options.tolerance = std::pow(10, -e);
        options.integrator = method;
        options.keep = p.paths;
        options.time_limit = 3;  // s
        Point point{0, 1e300, 0};
        try {
            for (int k = 0, n = 1; k < n; ++k) {
                netloop::Run run(system);
                netloop::Recording recording = run.simulate(options);
                point.seconds = std::min(point.seconds, run.summary().wall_seconds);
                if (!run.summary().complete) throw std::runtime_error("takes longer than anyone waits");
                if (k > 0) continue;
                n = repeats(run.summary().wall_seconds);
                point.steps = static_cast<long>(run.summary().steps);
                std::vector<std::vector<double>> got(kTimes);
                for (std::size_t t = 0; t < kTimes; ++t)
                    for (const std::string& path : p.paths) got[t].push_back(recording[path].at(times[t], recording.time()));
                point.digits = judge.digits(got);
                if (e == 6) ours.how = run.summary().integrator;
            }
        } catch (const std::exception& problem) {
            if (method.empty()) fmt::print(stderr, "{}: {}\n", p.name, problem.what());
            if (e > 3) break;
            continue;
        }
        ours.curve.push_back(point);
        if (point.digits > kMostDigits + 0.5 || point.digits == judge.known || point.seconds > 5) break;
    }
    return ours;
}

struct Compared {
    std::string name, how;
    std::map<std::string, Curve> curves;
    double worst_of_methods = 0;  ///< auto beside the best single method
};

Compared compare(const Problem& p, std::size_t rows)
{
    Compared c;
    c.name = p.name;
    Judge judge;
    Solved best = reference(p, row_times(p.stop, kTimes));
    judge.wanted = best.rows;
    if (!best.done) {
        fmt::print(stderr, "{}: no reference\n", p.name);
        std::exit(1);
    }
    double off = 0;
    for (const auto& [i, value] : p.printed) off = std::max(off, std::abs(best.rows.back()[i] - value) / std::abs(value));
    if (p.printed.empty())
        fmt::print(stderr, "{}: by IDA and CVODE\n", p.name);
    else
        fmt::print(stderr, "{}: the reference has {:.1f} of the digits printed in the literature\n", p.name, -std::log10(off));
    if (off > 1e-4) std::exit(1);
    if (off > 0) judge.known = -std::log10(off);
    netloop::Library library = netloop::Library::standard();
    library.load_text(p.name + ".loop", p.text + scenario_of(p));
    netloop::CompiledSystem system = netloop::compile(library, {.system = "", .scenario = "measured"});
    netloop::RunOptions options;
    options.stop = p.stop;
    netloop::run_verified(system, options);
    for (const std::string method : {"", "bdf", "adams", "sdirk"}) {
        Ours ours = by_net_loop(system, p, method, judge, rows);
        if (method.empty()) c.how = ours.how;
        if (!ours.curve.empty()) c.curves[method.empty() ? "Net Loop" : "Net Loop " + method] = ours.curve;
    }
    for (const Way& w : ways())
        if (w.fits == nullptr || w.fits(p))
            if (Curve curve = by(w, p, judge, rows); !curve.empty()) c.curves[w.name] = curve;
    return c;
}

double fastest(const Compared& c, int digits, const std::function<bool(const std::string&)>& counts)
{
    double best = std::nan("");
    for (const auto& [name, curve] : c.curves) {
        if (!counts(name)) continue;
        double t = at_digits(curve, digits);
        if (std::isfinite(t) && !(t >= best)) best = t;
    }
    return best;
}

void picture(const std::vector<Compared>& all, const std::string& file)
{
    std::FILE* g = popen("gnuplot", "w");
    if (g == nullptr) return;
    std::size_t columns = 3, lines = (all.size() + columns - 1) / columns;
    fmt::print(g, "set terminal svg size 1280,{} font 'DejaVu Sans,11' background 'white'\nset output '{}'\nset multiplot layout {},{}\n", 300 * lines, file,
               lines, columns);
    fmt::print(g, "set logscale y\nset xrange [0:11]\nset grid ytics lc rgb '#dddddd'\nset format y '10^{{%L}}'\nset xlabel 'digits'\nset ylabel 'ms'\n");
    const std::vector<std::pair<std::string, std::string>> looks{{"Net Loop", "lw 2.5 lc rgb '#c02020' pt 7 ps 0.5"},
                                                                 {"IDA", "lw 1 lc rgb '#2060c0' pt 4 ps 0.4"},
                                                                 {"CVODE", "lw 1 lc rgb '#208040' pt 6 ps 0.4"},
                                                                 {"CVODE renewed", "lw 1 dt 2 lc rgb '#208040' pt 6 ps 0.3"},
                                                                 {"CVODE Adams", "lw 1 dt 3 lc rgb '#208040' pt 6 ps 0.3"},
                                                                 {"odeint dopri5", "lw 1 lc rgb '#909090' pt 8 ps 0.4"},
                                                                 {"odeint Bulirsch-Stoer", "lw 1 dt 2 lc rgb '#909090' pt 8 ps 0.4"},
                                                                 {"odeint Rosenbrock", "lw 1 lc rgb '#b08000' pt 10 ps 0.4"}};
    bool first = true;
    for (const Compared& c : all) {
        fmt::print(g, "set title '{}'\n{}\nplot ", c.name, first ? "set key bottom right font ',8' samplen 2" : "unset key");
        bool begun = false;
        for (const auto& [name, look] : looks) {
            if (first || c.curves.count(name) > 0) {
                fmt::print(g, "{}'-' with linespoints {} title '{}'", begun ? ", " : "", look, name);
                begun = true;
            }
        }
        fmt::print(g, "\n");
        for (const auto& [name, look] : looks) {
            auto found = c.curves.find(name);
            if (found == c.curves.end() && !first) continue;
            if (found == c.curves.end())
                fmt::print(g, "-5 1\n");
            else
                for (const Point& p : found->second) fmt::print(g, "{} {}\n", p.digits, 1e3 * p.seconds);
            fmt::print(g, "e\n");
        }
        first = false;
    }
    fmt::print(g, "unset multiplot\n");
    pclose(g);
}

bool ours_single(const std::string& name)
{
    return name.rfind("Net Loop ", 0) == 0;
}

}  // namespace

int main(int argc, char** argv)
{
    std::string only, svg;
    std::size_t rows = 100;
    for (int i = 1; i < argc; ++i) {
        std::string a = argv[i];
        if (a == "--rows" && i + 1 < argc)
            rows = std::strtoul(argv[++i], nullptr, 10);
        else if (a == "--picture" && i + 1 < argc)
            svg = argv[++i];
        else
            only = a;
    }
    rows = std::max<std::size_t>(kTimes, rows / kTimes * kTimes);
    std::vector<Compared> all;
    for (const Problem& p : all_problems())
        if (only.empty() || p.name.find(only) != std::string::npos) all.push_back(compare(p, rows));

    struct Line {
        double worst = 0;
        std::string text;
    };
    std::vector<Line> lines, against_own;
    for (const Compared& c : all) {
        Line line, own;
        std::string cells, tuned_cells, own_cells;
        for (int d = kLeastDigits; d <= kMostDigits; ++d) {
            double ours = at_digits(c.curves.count("Net Loop") > 0 ? c.curves.at("Net Loop") : Curve{}, d);
            double usual = fastest(c, d, [](const std::string& n) { return n == "IDA" || n == "CVODE"; });
            double tuned = fastest(c, d, [](const std::string& n) { return n.rfind("Net Loop", 0) != 0; });
            double single = fastest(c, d, ours_single);
            double ratio = ours / usual;
            if (std::isfinite(ratio)) line.worst = std::max(line.worst, ratio);
            if (std::isfinite(ours / single)) own.worst = std::max(own.worst, ours / single);
            cells += fmt::format(" {} ({}) |", ratio_text(ratio), ratio_text(ours / tuned));
            own_cells += fmt::format(" {} |", ratio_text(ours / single));
        }
        double six = at_digits(c.curves.count("Net Loop") > 0 ? c.curves.at("Net Loop") : Curve{}, 5);
        line.text = fmt::format("| {} | {} |{} {} |", c.name, time_text(six), cells, c.how.substr(0, 60));
        own.text = fmt::format("| {} |{}", c.name, own_cells);
        lines.push_back(line);
        against_own.push_back(own);
        for (const auto& [name, curve] : c.curves) {
            fmt::print(stderr, "{:22} {:24}", c.name, name);
            for (const Point& p : curve) fmt::print(stderr, " {:.1f}:{}/{}", p.digits, time_text(p.seconds), p.steps);
            fmt::print(stderr, "\n");
        }
    }
    auto worst_first = [](const Line& a, const Line& b) { return a.worst > b.worst; };
    std::sort(lines.begin(), lines.end(), worst_first);
    std::sort(against_own.begin(), against_own.end(), worst_first);
    std::string head, rule;
    for (int d = kLeastDigits; d <= kMostDigits; ++d) head += fmt::format(" {} digits |", d), rule += " --- |";
    fmt::print("Net Loop's time beside the faster of IDA and CVODE as they come (in brackets: beside the fastest of all)\n\n");
    fmt::print("| problem | 5 digits |{} how |\n| --- | --- |{} --- |\n", head, rule);
    for (const Line& l : lines) fmt::print("{}\n", l.text);
    fmt::print("\n`auto` beside the best of bdf, adams, sdirk\n\n| problem |{}\n| --- |{}\n", head, rule);
    for (const Line& l : against_own) fmt::print("{}\n", l.text);
    if (!svg.empty()) picture(all, svg);
    return 0;
}
