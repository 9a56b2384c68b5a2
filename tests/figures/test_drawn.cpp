// SPDX-License-Identifier: Apache-2.0
// Where gnuplot puts the curves: what is drawn is read back out of the SVG and held against the numbers that went in.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <regex>
#include <sstream>

#include "figures/plot.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

struct Point {
    double x, y;
};

// The lines of an SVG in one colour, in pixels of the page: gnuplot writes `M x,y L x,y ...` within groups that it does not move.
std::vector<Point> line_of(const std::string& svg, const std::string& rgb)
{
    std::vector<Point> points;
    std::regex path("<path stroke='" + rgb + "'[^>]*d='([^']*)'");
    for (std::sregex_iterator it(svg.begin(), svg.end(), path), end; it != end; ++it) {
        std::string d = (*it)[1];
        std::replace_if(
            d.begin(), d.end(), [](char c) { return std::isdigit(static_cast<unsigned char>(c)) == 0 && c != '.' && c != '-'; }, ' ');
        std::istringstream in(d);
        std::vector<Point> made;
        for (Point p{}; in >> p.x >> p.y;) made.push_back(p);
        if (made.size() > points.size()) points = made;  // the longest is the curve, not its sample in the legend
    }
    return points;
}

// The places of an axis' numbers: text and pixel.
std::vector<std::pair<double, Point>> numbers(const std::string& svg)
{
    std::vector<std::pair<double, Point>> found;
    std::regex text("translate\\(([0-9.]+),([0-9.]+)\\)[^>]*>\\s*<text>(?:<tspan[^>]*>)?\\s*(-?[0-9.]+)\\s*<");
    for (std::sregex_iterator it(svg.begin(), svg.end(), text), end; it != end; ++it)
        found.push_back({std::stod((*it)[3]), {std::stod((*it)[1]), std::stod((*it)[2])}});
    return found;
}

// value = a + b * pixel, through the numbers of an axis; they must lie on a line.
struct Scale {
    double a = 0, b = 0;
    double operator()(double pixel) const { return a + b * pixel; }
};
Scale scale_of(const std::vector<std::pair<double, double>>& value_at)
{
    REQUIRE(value_at.size() >= 3);
    auto [v0, p0] = value_at.front();
    auto [v1, p1] = value_at.back();
    Scale s;
    s.b = (v1 - v0) / (p1 - p0);
    s.a = v0 - s.b * p0;
    for (auto [v, p] : value_at) CHECK(std::abs(s(p) - v) < 0.6 * std::abs(s.b));
    return s;
}

Recording recording()
{
    Recording r;
    r.columns.resize(3);
    r.columns[0].name = "time";
    r.columns[0].unit = "s";
    r.columns[1].name = "pump.p";
    r.columns[1].unit = "bar";
    r.columns[1].scale = 1e5;
    r.columns[2].name = "leaf.angle";
    r.columns[2].unit = "deg";
    r.columns[2].scale = 3.14159265358979 / 180;
    for (int i = 0; i <= 200; ++i) {
        double t = 0.05 * i;
        r.columns[0].values.push_back(t);
        r.columns[1].values.push_back(1e5 * (120 + 35 * std::sin(1.7 * t) * std::exp(-0.1 * t)));
        r.columns[2].values.push_back((20 + 6 * t) * r.columns[2].scale);
    }
    return r;
}

std::string drawn(PlotRequest request)
{
    test::Scratch scratch;
    request.out = scratch / "x.svg";
    plot({recording()}, {"r"}, request);
    return test::read_file(request.out);
}

const std::string kFirst = "rgb\\( *20, *80, *140\\)";  // #14508c
const std::string kSecond = "rgb\\(235, *131, *27\\)";  // #eb831b

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("a curve lies where its axes say, each row of it")
{
    Recording r = recording();
    std::string svg = drawn({.quantities = {"pump.p"}});
    std::vector<Point> line = line_of(svg, kFirst);
    REQUIRE(line.size() == r.n_rows());
    std::vector<std::pair<double, double>> left, below;
    double bottom = 0;
    for (auto& [v, p] : numbers(svg)) bottom = std::max(bottom, p.y);
    for (auto& [v, p] : numbers(svg)) (p.y > bottom - 3 ? below : left).emplace_back(v, p.y > bottom - 3 ? p.x : p.y);
    Scale x = scale_of(below), y = scale_of(left);
    // gnuplot sets a number half a line below its tick: the same for all, taken from the first row
    double shift = r.columns[1].values[0] / 1e5 - y(line[0].y);
    CHECK(std::abs(shift) < 6 * std::abs(y.b));
    for (std::size_t i = 0; i < line.size(); ++i) {
        CHECK(std::abs(x(line[i].x) - r.columns[0].values[i]) < 1.5 * std::abs(x.b));
        CHECK(std::abs(y(line[i].y) + shift - r.columns[1].values[i] / 1e5) < 1.5 * std::abs(y.b));
    }
}

TEST_CASE("the second unit is drawn against the right axis, in another unit if asked for")
{
    Recording r = recording();
    for (const char* unit : {"deg", "rad"}) {
        std::string svg = drawn({.quantities = {"pump.p", std::string("leaf.angle:") + unit}});
        std::vector<Point> line = line_of(svg, kSecond);
        REQUIRE(line.size() == r.n_rows());
        double bottom = 0, right = 0;
        for (auto& [v, p] : numbers(svg)) bottom = std::max(bottom, p.y), right = std::max(right, p.x);
        std::vector<std::pair<double, double>> side;
        double edge = 0;
        for (const Point& p : line) edge = std::max(edge, p.x);
        for (auto& [v, p] : numbers(svg))
            if (p.y < bottom - 3 && p.x > edge) side.emplace_back(v, p.y);
        Scale y = scale_of(side);
        double scale = std::string(unit) == "deg" ? r.columns[2].scale : 1, shift = r.columns[2].values[0] / scale - y(line[0].y);
        CHECK(std::abs(shift) < 6 * std::abs(y.b));
        for (std::size_t i = 0; i < line.size(); ++i) CHECK(std::abs(y(line[i].y) + shift - r.columns[2].values[i] / scale) < 1.5 * std::abs(y.b));
    }
}

TEST_CASE("a range of time and of an axis cuts what is drawn")
{
    std::string svg = drawn({.quantities = {"pump.p"}, .from = 2.0, .to = 4.0, .ranges = {{80, 180}}, .range_units = {"bar"}});
    std::vector<Point> line = line_of(svg, kFirst);
    CHECK(line.size() == 41);
    std::vector<double> left;
    for (auto& [v, p] : numbers(svg))
        if (v >= 60) left.push_back(v);
    REQUIRE(left.size() >= 3);
    CHECK(*std::min_element(left.begin(), left.end()) >= 80);
    CHECK(*std::max_element(left.begin(), left.end()) <= 180);
}

TEST_SUITE_END();
