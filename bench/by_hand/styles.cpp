// SPDX-License-Identifier: Apache-2.0
// The chains as users write them: bare equations with params, library parts in a text, library parts joined by a program; with rows. Beside the hand-written
// programs, as they come and best tuned (matrix renewed every five steps, or Adams), which record as many rows of as many states. Worst first.
//   build/release/bench/netloop_styles [most cells, default 10000] [rows, default 100]
#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <netloop/netloop.hpp>
#include <numbers>

#include "../verified.hpp"
#include "judging.hpp"

namespace {

using namespace by_hand;

struct Written {
    std::string style;
    netloop::CompiledSystem system;
    std::vector<std::string> paths;  ///< of the sampled states
    double compile_seconds = 0;
};

std::string with_params(std::string text)
{
    const std::string from = "    const ", to = "    param ";
    for (std::size_t at = 0; (at = text.find(from, at)) != std::string::npos; at += to.size()) text.replace(at, from.size(), to);
    return text;
}

// Parts and joints of a machine, for a text and for a program alike.
struct Assembly {
    struct Part {
        std::string name, kind;
        std::vector<std::pair<std::string, netloop::Quantity>> values;
        std::string drive;  ///< an input that is driven: its name
    };
    std::vector<Part> parts;
    std::vector<std::vector<std::string>> joints;
    std::string driven_text;                      ///< `= ...` of the drive
    std::function<netloop::Expression()> driven;  ///< the same
    std::vector<std::pair<std::string, netloop::Quantity>> starts;
    std::function<std::string(std::size_t)> path;

    std::string text() const
    {
        std::string s = "system Machine {\n";
        for (const Part& p : parts) {
            s += "    part " + p.name + " : " + p.kind;
            std::string values;
            for (const auto& [name, value] : p.values) values += (values.empty() ? "" : ", ") + fmt::format("{} = {} {}", name, value.value, value.unit);
            if (!p.drive.empty()) values += (values.empty() ? "" : ", ") + p.drive + " = " + driven_text;
            s += values.empty() ? "\n" : "(" + values + ")\n";
        }
        for (const auto& j : joints) s += "    " + fmt::format("{}", fmt::join(j, " -- ")) + "\n";
        for (const auto& [what, value] : starts) s += fmt::format("    init {} = {} {}\n", what, value.value, value.unit);
        return s + "}\n";
    }
    netloop::SystemBuilder built(netloop::Library library) const
    {
        netloop::SystemBuilder b("Machine", std::move(library));
        for (const Part& p : parts) {
            std::vector<netloop::PartValue> values;
            for (const auto& [name, value] : p.values) values.emplace_back(name, value);
            if (!p.drive.empty()) values.emplace_back(p.drive, driven());
            b.part(p.name, p.kind, values);
        }
        for (const auto& j : joints) {
            std::vector<netloop::Expression> ports;
            for (const std::string& path_of : j) ports.push_back(b.ref(path_of));
            b.join(ports);
        }
        for (const auto& [what, value] : starts) b.init(b.ref(what), netloop::Expression(value));
        return b;
    }
};

using netloop::q;

Assembly ladder(std::size_t n)
{
    Assembly a;
    a.parts.push_back({"supply", "electrics.VoltageSource", {}, "voltage"});
    a.parts.push_back({"ground", "electrics.Ground", {}, ""});
    a.driven_text = "5 V * sin(2 * pi * 50 Hz * time)";
    a.driven = [] {
        return netloop::Expression(q(5, "V")) *
               netloop::call("sin", {netloop::Expression(2 * std::numbers::pi) * netloop::Expression(q(50, "Hz")) * netloop::time()});
    };
    a.joints.push_back({"supply.minus", "ground.pin"});
    for (std::size_t i = 1; i <= n; ++i) {
        std::string r = fmt::format("r{}", i), c = fmt::format("c{}", i);
        a.parts.push_back({r, "electrics.Resistor", {{"resistance", q(1, "kohm")}}, ""});
        a.parts.push_back({c, "electrics.Capacitor", {{"capacitance", q(1, "uF")}}, ""});
        a.joints.push_back({i == 1 ? "supply.plus" : fmt::format("c{}.plus", i - 1), r + ".plus"});
        a.joints.push_back({r + ".minus", c + ".plus"});
        a.joints.push_back({c + ".minus", "ground.pin"});
        a.starts.push_back({c + ".u", q(0, "V")});
    }
    a.path = [](std::size_t s) { return fmt::format("c{}.u", s + 1); };
    return a;
}

Assembly masses(std::size_t n)
{
    Assembly a;
    a.parts.push_back({"shaker", "mechanics.ForceSource", {}, "force"});
    a.parts.push_back({"wall", "mechanics.Anchor", {}, ""});
    a.driven_text = "100 N * sin(20 rad/s * time)";
    a.driven = [] { return netloop::Expression(q(100, "N")) * netloop::call("sin", {netloop::Expression(q(20, "rad/s")) * netloop::time()}); };
    a.joints.push_back({"shaker.point", "m1.point"});
    for (std::size_t i = 1; i <= n; ++i) {
        std::string m = fmt::format("m{}", i), k = fmt::format("k{}", i), d = fmt::format("d{}", i),
                    next = i < n ? fmt::format("m{}.point", i + 1) : "wall.point";
        a.parts.push_back({m, "mechanics.Mass", {{"mass", q(1, "kg")}}, ""});
        a.parts.push_back({k, "mechanics.Spring", {{"stiffness", q(1e4, "N/m")}}, ""});
        a.joints.push_back({m + ".point", k + ".a"});
        a.joints.push_back({k + ".b", next});
        if (i < n) {  // the last mass has a spring to the wall alone
            a.parts.push_back({d, "mechanics.Damper", {{"damping", q(10, "N*s/m")}}, ""});
            a.joints.push_back({m + ".point", d + ".a"});
            a.joints.push_back({d + ".b", next});
        }
        a.starts.push_back({m + ".x", q(0, "m")});
        a.starts.push_back({m + ".v", q(0, "m/s")});
    }
    a.path = [](std::size_t s) { return fmt::format("m{}.{}", s / 2 + 1, s % 2 == 0 ? "x" : "v"); };
    return a;
}

template <typename Compile>
Written timed(const std::string& style, Compile compile, const Sample& sample, const std::function<std::string(std::size_t)>& path)
{
    auto begin = std::chrono::steady_clock::now();
    Written w{style, compile(), {}, 0};
    w.compile_seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    for (std::size_t s : sample.states) w.paths.push_back(path(s));
    return w;
}

std::vector<Written> styles_of(const Problem& p, const std::string& name, std::size_t cells, const Sample& sample)
{
    std::vector<Written> all;
    auto from_text = [](const std::string& text) {
        netloop::Library library = netloop::Library::standard();
        library.load_text("machine.loop", text);
        return netloop::compile(library);
    };
    all.push_back(timed(
        "equations", [&] { return from_text(with_params(p.model())); }, sample, [&](std::size_t s) { return p.path(s); }));
    constexpr std::size_t kMostParts = 10000;
    if (cells > kMostParts || (name != "R-C ladder" && name != "masses and springs")) return all;
    Assembly a = name == "R-C ladder" ? ladder(cells) : masses(cells);
    all.push_back(timed(
        "parts", [&] { return from_text(a.text()); }, sample, a.path));
    all.push_back(timed(
        "builder", [&] { return netloop::compile(a.built(netloop::Library::standard())); }, sample, a.path));
    return all;
}

Point net_loop(const Written& w, const Problem& p, const Sample& sample, const Values& reference)
{
    netloop::RunOptions options;
    options.stop = p.stop();
    options.output_every = p.stop() / static_cast<double>(sample.times.size());
    options.keep = w.paths;
    constexpr std::size_t kMostVerified = 20000;
    if (w.system.n_equations() <= kMostVerified) netloop::run_verified(w.system, options);
    Point point{1e-6, 0, 1e300, 0, true, ""};
    for (int k = 0, n = 1; k < n; ++k) {
        netloop::Run run(w.system);
        netloop::Recording recording = run.simulate(options);
        point.seconds = std::min(point.seconds, run.summary().wall_seconds);
        if (k > 0) continue;
        n = repeats(run.summary().wall_seconds);
        point.steps = run.summary().steps;
        point.how = run.summary().integrator.substr(0, run.summary().integrator.find(" (equations"));
        Values got;
        for (std::size_t t = 1; t <= kTimes; ++t) {
            got.emplace_back();
            double at = sample.times[t * sample.times.size() / kTimes - 1];
            for (const std::string& path : w.paths) got.back().push_back(recording[path].at(at, recording.time()));
        }
        point.error = error_of(got, reference, sample);
    }
    return point;
}

struct Line {
    double worst = 0;
    std::string text;
};

void compare(const std::string& name, std::size_t cells, std::size_t rows, std::vector<Line>& lines)
{
    std::unique_ptr<Problem> p = make_problem(name, cells);
    Sample sample;
    std::size_t n = p->n_states(), step = std::max<std::size_t>(1, std::min<std::size_t>(n, 60) / 20);
    for (std::size_t s = 0; s < n && sample.states.size() < 20; s += step) sample.states.push_back(s), sample.sizes.push_back(p->usual(s));
    for (std::size_t k = 1; k <= rows; ++k) sample.times.push_back(p->stop() * static_cast<double>(k) / static_cast<double>(rows));
    Settings tight{1e-11, name == "pipe grid", 5, 1000, sample.states};
    Values reference = pick(solve(*p, tight, sample.times));
    std::vector<Point> plain, renewed, adams;
    for (double tolerance : {1e-4, 1e-5, 1e-6, 1e-7, 1e-8}) {
        Settings settings{tolerance, false, 0, 20, {}};
        if (plain.empty() || plain.back().done) plain.push_back(by_hand_at(*p, settings, sample, &reference));
        settings.renew = 5;
        if (renewed.empty() || renewed.back().done) renewed.push_back(by_hand_at(*p, settings, sample, &reference));
        settings.renew = 0, settings.adams = true, settings.patience = 2 * std::min(plain.back().seconds, renewed.back().seconds);
        adams.push_back(by_hand_at(*p, settings, sample, &reference));
    }
    for (const Written& w : styles_of(*p, name, cells, sample)) {
        Point ours = net_loop(w, *p, sample, reference), usual = at_error(plain, ours.error), best = at_error(renewed, ours.error);
        if (Point a = at_error(adams, ours.error); a.seconds < best.seconds) best = a;
        if (usual.seconds < best.seconds) best = usual;
        double against_best = ours.seconds / best.seconds;
        lines.push_back({against_best, fmt::format("| {} | {} | {} | {} | {} | {:.1e} | {}, {} steps ({}) | {} | {:.2f} | {} ({}) | {:.2f} |", name, n, w.style,
                                                   rows, time_text(w.compile_seconds), ours.error, time_text(ours.seconds), ours.steps, ours.how,
                                                   time_text(usual.seconds), ours.seconds / usual.seconds, time_text(best.seconds), best.how, against_best)});
        fmt::print(stderr, "{}\n", lines.back().text);
    }
}

}  // namespace

int main(int argc, char** argv)
{
    std::size_t most = argc > 1 ? std::strtoul(argv[1], nullptr, 10) : 10000, rows = argc > 2 ? std::strtoul(argv[2], nullptr, 10) : 100;
    rows = std::max(kTimes, rows / kTimes * kTimes);
    std::vector<Line> lines;
    for (const std::string& name : kProblems)
        for (std::size_t cells = 10; cells <= most; cells *= 10) compare(name, cells, rows, lines);
    for (std::size_t other : {kTimes, std::size_t{1000}})
        for (const std::string& name : kProblems)
            for (std::size_t cells : {10, 1000})
                if (argc <= 2) compare(name, cells, other, lines);
    std::sort(lines.begin(), lines.end(), [](const Line& a, const Line& b) { return a.worst > b.worst; });
    fmt::print("| machine | states | written as | rows | compile | error at 1e-6 | Net Loop | by hand, same error | ratio | best tuned | ratio |\n");
    fmt::print("| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |\n");
    for (const Line& l : lines) fmt::print("{}\n", l.text);
}
