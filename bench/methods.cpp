// SPDX-License-Identifier: Apache-2.0
// How well `auto` chooses: every shipped scenario by each method at several tolerances; the time that each needs for the error that `auto` has at 1e-6.
//   build/release/bench/netloop_methods [part of a file name]
#include <fmt/format.h>
#include <netloop/netloop.hpp>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "verified.hpp"

namespace {

using namespace netloop;

struct Point {
    double error = 0, seconds = 0;
};

// The states of the system as the reference has them, at a few times: what errors are told by.
struct Answer {
    std::vector<double> values, sizes;
};

Answer answer_of(const Recording& r)
{
    constexpr std::size_t kTimes = 7;
    Answer a;
    for (std::size_t c = 1; c < r.columns.size(); ++c) {
        if (r.columns[c].unit == "bool") continue;
        double size = 0;
        for (double v : r.columns[c].values) size = std::max(size, std::abs(v - r.columns[c].values.front()));
        for (std::size_t k = 1; k <= kTimes; ++k) {
            double t = r.time().first() + (r.time().final() - r.time().first()) * static_cast<double>(k) / kTimes;
            a.values.push_back(r.columns[c].at(t, r.time()));
            a.sizes.push_back(size);
        }
    }
    return a;
}

// The median over everything recorded: events that come a little later spoil single values, not the middle.
double error_of(const Answer& a, const Answer& reference)
{
    std::vector<double> errors;
    for (std::size_t i = 0; i < std::min(a.values.size(), reference.values.size()); ++i)
        if (reference.sizes[i] > 0) errors.push_back(std::abs(a.values[i] - reference.values[i]) / reference.sizes[i]);
    if (errors.empty()) return 0;
    std::nth_element(errors.begin(), errors.begin() + static_cast<std::ptrdiff_t>(9 * errors.size() / 10), errors.end());
    return std::max(errors[9 * errors.size() / 10], 1e-14);
}

bool run(const CompiledSystem& system, const std::string& method, double tolerance, Point& point, Answer& answer)
{
    RunOptions options;
    options.integrator = method;
    options.tolerance = tolerance;
    point.seconds = 1e300;
    try {
        for (int k = 0; k < 3; ++k) {
            Run r(system);
            Recording recording = r.simulate(options);
            point.seconds = std::min(point.seconds, r.summary().wall_seconds);
            if (k == 0) answer = answer_of(recording);
            if (r.summary().wall_seconds > 1) break;
        }
    } catch (const std::exception&) {
        return false;
    }
    return true;
}

// By lines between the points in logarithms; the nearest point's time beyond them.
double seconds_at(std::vector<Point> points, double error)
{
    if (points.empty()) return 1e300;
    std::sort(points.begin(), points.end(), [](const Point& a, const Point& b) { return a.error > b.error; });
    if (error >= points.front().error) return points.front().seconds;
    for (std::size_t i = 0; i + 1 < points.size(); ++i) {
        if (error < points[i + 1].error) continue;
        double share = std::log(points[i].error / error) / std::max(1e-9, std::log(points[i].error / points[i + 1].error));
        return std::exp((1 - share) * std::log(points[i].seconds) + share * std::log(points[i + 1].seconds));
    }
    return 1e300;  // it does not come so near
}

}  // namespace

int main(int argc, char** argv)
{
    namespace fs = std::filesystem;
    std::string only = argc > 1 ? argv[1] : "";
    std::vector<std::string> files;
    for (const auto& entry : fs::recursive_directory_iterator(NETLOOP_SOURCE_DIR "/examples"))
        if (entry.path().extension() == ".loop" && entry.path().string().find(only) != std::string::npos) files.push_back(entry.path().string());
    std::sort(files.begin(), files.end());
    fmt::print("{:<44} {:>9} {:>9} {:>8}  {}\n", "scenario", "error", "auto", "to best", "method that is best, and what auto took");
    std::vector<double> ratios;
    for (const std::string& file : files) {
        Library library = Library::standard();
        try {
            library.load_file(file);
        } catch (const std::exception&) {
            continue;
        }
        for (const Library::Entry& e : library.list()) {
            if (e.kind != "scenario" || e.file.find(fs::path(file).filename().string()) == std::string::npos) continue;
            std::string scenario = e.name.substr(e.name.rfind('.') + 1);
            try {
                CompiledSystem system = compile(library, {.system = "", .scenario = scenario});
                Point reference_point;
                Answer reference;
                if (!run(system, "auto", 1e-9, reference_point, reference)) continue;
                RunOptions options;
                run_verified(system, options);
                Point own;
                Answer answer;
                if (!run(system, "auto", 1e-6, own, answer)) continue;
                own.error = error_of(answer, reference);
                Run told(system);
                told.simulate();
                double best = own.seconds;
                std::string by = "auto";
                for (const std::string method : {"bdf", "sdirk", "adams"}) {
                    std::vector<Point> points;
                    for (double tolerance : {1e-4, 1e-5, 1e-6, 1e-7, 1e-8}) {
                        Point p;
                        if (!run(system, method, tolerance, p, answer)) continue;
                        p.error = error_of(answer, reference);
                        points.push_back(p);
                    }
                    if (double t = seconds_at(points, own.error); t < best) best = t, by = method;
                }
                ratios.push_back(own.seconds / best);
                std::string name = fs::path(file).lexically_relative(NETLOOP_SOURCE_DIR "/examples").string() + " " + scenario;
                fmt::print("{:<44} {:>9.1e} {:>6.1f} ms {:>8.2f}  {}; {}\n", name, own.error, 1e3 * own.seconds, ratios.back(), by,
                           told.summary().integrator.substr(0, 70));
                std::fflush(stdout);
            } catch (const std::exception&) {
                continue;
            }
        }
    }
    std::sort(ratios.begin(), ratios.end());
    if (!ratios.empty())
        fmt::print("{} scenarios: median {:.2f}, nine of ten below {:.2f}, worst {:.2f}\n", ratios.size(), ratios[ratios.size() / 2],
                   ratios[9 * ratios.size() / 10], ratios.back());
}
