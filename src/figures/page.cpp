// SPDX-License-Identifier: Apache-2.0
#include "figures/page.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "figures/outline.hpp"
#include "figures/palette.hpp"
#include "figures/picture_file.hpp"
#include "netloop/error.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

// One curve is told from the next in grey, too: by its dashes.
constexpr const char* kDashes[] = {"solid", "(14,5)", "(14,4,4,4)", "(6,3)", "(22,4,8,4)", "(14,3,4,3,4,3)", "(9,6)", "(4,3)"};
constexpr const char *kInk = "#333333", *kFrame = "#7a7f85", *kGrid = "#dfe3e6", *kMark = "#a33b20";
// pixels
constexpr double kLeft = 78, kRight = 24, kRightAxis = 78, kLegend = 22, kBelow = 44, kGap = 10, kTitle = 36, kLane = 30, kSample = 30;
constexpr double kLetter = 7.4;  // of the legend, on average

// A text of gnuplot, taken as it is: between single quotes nothing is expanded.
std::string gnuplot_text(const std::string& text)
{
    std::string out = "'";
    for (char c : text) {
        if (c == '\'') out += c;
        out += c == '\n' ? ' ' : c;
    }
    return out + "'";
}

std::string bracketed(const std::string& unit)
{
    if (unit == kPartAxis) return "[part]";
    if (unit.starts_with(kStageUnit)) return "[stage]";
    return unit.empty() || unit == "1" ? "[-]" : "[" + unit + "]";
}

double letters(const std::string& text)
{
    return static_cast<double>(std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

// From white to the colour itself.
std::string faded(const std::string& colour, double share)
{
    std::string out = "#";
    for (std::size_t k = 0; k < 3; ++k) {
        auto part = std::stoi(colour.substr(1 + 2 * k, 2), nullptr, 16);
        out += fmt::format("{:02x}", static_cast<int>(std::lround(255 + share * (part - 255))));
    }
    return out;
}

struct Range {
    double low = HUGE_VAL, high = -HUGE_VAL;
    void take(double v)
    {
        if (!std::isfinite(v)) return;
        low = std::min(low, v);
        high = std::max(high, v);
    }
    bool any() const { return high >= low; }
};

// A round distance between tics that gives about `wanted` of them.
double round_step(double low, double high, double wanted)
{
    double raw = (high - low) / wanted;
    if (!(raw > 0) || !std::isfinite(raw)) return 0;
    double power = std::pow(10, std::floor(std::log10(raw))), lead = raw / power;
    return power * (lead <= 1 ? 1 : lead <= 2 ? 2 : lead <= 5 ? 5 : 10);
}

struct Box {
    double left = 0, right = 0, top = 0, bottom = 0;  ///< pixels from the upper left corner
};

// What is plotted into a panel: gnuplot reads the commands first, then their rows.
struct Plotted {
    std::string commands, data;
    void add(const std::string& command, const std::string& rows)
    {
        commands += (commands.empty() ? "" : ", ") + command;
        data += rows + "e\n";
    }
};

class Page {
public:
    Page(const PageContent& content, const PlotRequest& request) : content_(content), request_(request) {}

    std::string script(const std::string& out)
    {
        head(out);
        arrange();
        for (std::size_t p = 0; p < content_.panels.size(); ++p) panel(p);
        if (!content_.lanes.empty()) lanes();
        text_ += "unset multiplot\n";
        return std::move(text_);
    }

private:
    double x_of(double pixel) const { return pixel / request_.width; }
    double y_of(double pixel) const { return 1 - pixel / request_.height; }

    void head(const std::string& out)
    {
        std::string form = picture_form(request_.out);
        if (form == ".pdf")
            text_ += fmt::format("set terminal pdfcairo size {:.3f}in,{:.3f}in font 'DejaVu Sans,8' background '#ffffff' noenhanced\n", request_.width / 110.0,
                                 request_.height / 110.0);
        else
            text_ += fmt::format("set terminal {} size {},{} font 'DejaVu Sans,{}' background '#ffffff' {}\n", form == ".svg" ? "svg" : "pngcairo",
                                 request_.width, request_.height, form == ".svg" ? 13 : 10, form == ".svg" ? "" : "noenhanced");
        text_ +=
            fmt::format("set output {}\nset termoption noenhanced\nunset key\nset tics nomirror textcolor rgb '{}' in scale 0.6\n", gnuplot_text(out), kInk);
        text_ += fmt::format("set grid lt 1 lc rgb '{}' lw 1\nset encoding utf8\nset format y '%g'\nset format y2 '%g'\nset multiplot\n", kGrid);
        if (!request_.title.empty())
            text_ += fmt::format("set label 9000 {} at screen {:.5f},{:.5f} left font ',{}' textcolor rgb '{}'\n", gnuplot_text(request_.title), x_of(20),
                                 y_of(kTitle / 2 + 2),
                                 form == ".svg"   ? 16
                                 : form == ".pdf" ? 10
                                                  : 12,
                                 kInk);
    }

    bool log_x(const PanelContent& p) const { return p.log_x.value_or(request_.log_x); }
    bool log_y(const PanelContent& p) const { return p.log_y.value_or(request_.log_y); }
    static bool two(const PanelContent& p) { return p.units.size() > 1; }
    bool right(const PanelContent& p, const Curve& c) const { return two(p) && c.unit == p.units[1]; }
    std::string label(const PanelContent& p, const Curve& c) const { return c.label + (two(p) ? (right(p, c) ? " (right)" : " (left)") : ""); }

    // Places of the legend's entries: line and pixel from the left edge of the panel's box.
    std::vector<std::pair<int, double>> legend(const PanelContent& p, double width) const
    {
        std::vector<std::pair<int, double>> places;
        int line = 0;
        double at = 0;
        for (const Curve& c : p.curves) {
            double wide = kSample + 26 + kLetter * letters(label(p, c));
            if (at > 0 && at + wide > width) ++line, at = 0;
            places.emplace_back(line, at);
            at += wide;
        }
        return places;
    }

    bool numbers_below(std::size_t p) const
    {
        if (!content_.lanes.empty() && request_.columns <= 1 && p + 1 == content_.panels.size()) return false;
        if (p + 1 == content_.panels.size()) return true;
        const PanelContent &a = content_.panels[p], &b = content_.panels[p + 1];
        if (b.lower) return false;
        return request_.columns > 1 || !a.shares_x || !b.shares_x || a.x_label != b.x_label || a.x_unit != b.x_unit;
    }

    // A panel and its difference form a group; groups stand in rows of `columns`.
    void arrange()
    {
        std::vector<std::vector<std::size_t>> groups;
        for (std::size_t p = 0; p < content_.panels.size(); ++p) {
            if (!content_.panels[p].lower || groups.empty()) groups.emplace_back();
            groups.back().push_back(p);
        }
        auto columns = static_cast<std::size_t>(std::clamp(request_.columns, 1, static_cast<int>(groups.size())));
        std::size_t rows = (groups.size() + columns - 1) / columns;
        double top = request_.title.empty() ? 6 : kTitle, bottom = request_.height - 6;
        if (!content_.lanes.empty()) {
            lanes_top_ = bottom - kBelow - kLane * static_cast<double>(content_.lanes.size());
            bottom = lanes_top_ - kGap;
        }
        boxes_.resize(content_.panels.size());
        // one above the other, times stand above times
        any_right_ = columns == 1 && std::any_of(content_.panels.begin(), content_.panels.end(), [&](const PanelContent& p) { return two(p); });
        double row_height = (bottom - top) / static_cast<double>(rows), column_width = request_.width / static_cast<double>(columns);
        if (columns == 1) {  // lines of text first, the rest by weight
            double fixed = 0, weights = 0;
            for (std::size_t p = 0; p < content_.panels.size(); ++p) fixed += outside(p, column_width), weights += weight(p);
            double share = std::max((bottom - top - fixed) / weights, 30.0), at = top;
            for (std::size_t p = 0; p < content_.panels.size(); ++p) {
                double height = outside(p, column_width) + share * weight(p);
                place(p, {0, column_width, at, at + height});
                at += height;
            }
            return;
        }
        for (std::size_t g = 0; g < groups.size(); ++g) {
            std::size_t row = g / columns;
            double left = column_width * static_cast<double>(g % columns), at = top + row_height * static_cast<double>(row);
            double fixed = 0, weights = 0;
            for (std::size_t p : groups[g]) fixed += outside(p, column_width), weights += weight(p);
            for (std::size_t p : groups[g]) {
                double height = outside(p, column_width) + std::max((row_height - fixed) / weights, 30.0) * weight(p);
                place(p, {left, left + column_width, at, at + height});
                at += height;
            }
        }
    }

    double weight(std::size_t p) const { return content_.panels[p].lower ? 0.5 : 1; }
    // The stages that an axis names; empty of any other axis.
    static std::vector<std::string> stages(const PanelContent& p, const std::string& unit)
    {
        for (const Curve& c : p.curves)
            if (c.unit == unit && !c.stages.empty()) return c.stages;
        return {};
    }
    // Room for an axis' numbers or names, on all panels alike: times stand above times.
    double axis_width(std::size_t side) const
    {
        double width = side == 0 ? kLeft : kRightAxis;
        for (const PanelContent& p : content_.panels)
            if (side < p.units.size())
                for (const std::string& s : stages(p, p.units[side])) width = std::max(width, 20 + kLetter * letters(s));
        return width;
    }
    double right_margin(const PanelContent& p) const { return two(p) || any_right_ ? axis_width(1) : kRight; }
    double legend_width(const PanelContent& p, double width) const { return width - axis_width(0) - right_margin(p); }
    double above(std::size_t p, double width) const
    {
        const PanelContent& panel = content_.panels[p];
        return kLegend * (1 + legend(panel, legend_width(panel, width)).back().first) + 6;
    }
    double outside(std::size_t p, double width) const { return above(p, width) + (numbers_below(p) ? kBelow : 0) + kGap; }

    void place(std::size_t p, Box outer)
    {
        const PanelContent& panel = content_.panels[p];
        boxes_[p] = {outer.left + axis_width(0), outer.right - right_margin(panel), outer.top + above(p, outer.right - outer.left),
                     outer.bottom - (numbers_below(p) ? kBelow : 0) - kGap};
    }

    void margins(const Box& b)
    {
        text_ += fmt::format("set lmargin at screen {:.5f}\nset rmargin at screen {:.5f}\nset tmargin at screen {:.5f}\nset bmargin at screen {:.5f}\n",
                             x_of(b.left), x_of(b.right), y_of(b.top), y_of(b.bottom));
    }

    // The range that a user gave for axes of this unit, in the unit of the axis.
    std::optional<std::pair<double, double>> given(const std::string& unit) const
    {
        Unit axis, wanted;
        UnitProblem problem;
        if (!parse_unit(unit.empty() ? "1" : unit, axis, problem)) return std::nullopt;
        for (std::size_t k = 0; k < request_.ranges.size(); ++k) {
            const std::string& text = request_.range_units.at(k);
            if (!parse_unit(text.empty() ? "1" : text, wanted, problem)) throw RecordingError(problem.text);
            if (!(wanted.dimension == axis.dimension)) continue;
            return std::pair{axis.from_si(wanted.to_si(request_.ranges[k].first)), axis.from_si(wanted.to_si(request_.ranges[k].second))};
        }
        return std::nullopt;
    }

    Range y_range(const PanelContent& p, const std::string& unit) const
    {
        Range r;
        if (auto names = stages(p, unit); !names.empty()) return {0.5, static_cast<double>(names.size()) + 0.5};
        for (const Curve& c : p.curves)
            if (c.unit == unit)
                for (const Stroke& s : c.strokes)
                    for (double v : s.y)
                        if (!log_y(p) || v > 0) r.take(v);
        if (!r.any()) {
            if (log_y(p)) throw RecordingError(fmt::format("'{}' is nowhere above 0: it cannot be drawn on a logarithmic axis", p.curves[0].label));
            r = {0, 1};
        }
        if (auto g = given(unit); g && !p.lower) return {g->first, g->second};
        if (log_y(p)) {
            if (request_.spectrum) r.low = std::max(r.low, r.high * 1e-6);
            if (!(r.high > r.low)) r.low /= 2, r.high *= 2;
            return r;
        }
        double air = r.high > r.low ? 0.06 * (r.high - r.low) : std::max(0.1 * std::abs(r.high), 0.5);
        if (r.high - r.low < 1e-9 * std::max(std::abs(r.high), std::abs(r.low))) air = std::max(0.1 * std::abs(r.high), 1e-12);
        return {r.low - air, r.high + air};
    }

    Range x_range(const PanelContent& p) const
    {
        Range r;
        for (const Curve& c : p.curves)
            for (const Stroke& s : c.strokes)
                for (double v : s.x)
                    if (!log_x(p) || v > 0) r.take(v);
        if (p.x_label == "time" && p.x_unit == "s") {
            if (request_.from) r.low = *request_.from;
            if (request_.to) r.high = *request_.to;
        } else if (auto g = given(p.x_unit)) {
            r = {g->first, g->second};
        }
        if (!r.any()) r = {0, 1};
        if (!(r.high > r.low)) r.low -= 0.5, r.high += 0.5;
        // places at the very edge would be seen by half
        bool places = std::any_of(p.curves.begin(), p.curves.end(), [](const Curve& c) { return c.mark == Curve::Mark::cross || c.mark == Curve::Mark::ring; });
        if (double air = 0.04 * (r.high - r.low); places && !log_x(p)) r.low -= air, r.high += air;
        return r;
    }

    std::string y_tics(const PanelContent& p, const std::string& unit, const Range& r, double height) const
    {
        if (auto names = stages(p, unit); !names.empty()) {
            std::string list;
            for (std::size_t k = 0; k < names.size(); ++k) list += fmt::format("{}{} {}", k > 0 ? ", " : "", gnuplot_text(names[k]), k + 1);
            return " (" + list + ")";
        }
        if (log_y(p)) return "";
        double step = round_step(r.low, r.high, std::clamp(height / 34, 2.0, 9.0));
        if (step > 0 && std::floor(r.high / step) - std::ceil(r.low / step) < 1) step /= 2;
        return step > 0 ? fmt::format(" {:.6g}", step) : "";
    }

    // Colour by quantity. A run alone: dashes by place in the panel. Several runs: the length of dashes tells the run, dots between them the quantity, so that
    // in grey no two curves of a panel are alike.
    std::string style(const PanelContent& p, std::size_t k) const
    {
        return fmt::format("dt {} lc rgb '{}'", dash_of(p, k), kColours[p.curves[k].quantity % std::size(kColours)]);
    }

    std::string dash_of(const PanelContent& p, std::size_t k) const
    {
        const Curve& c = p.curves[k];
        // behind the last colour the first comes again, with another dash
        std::string dash = kDashes[(k + k / std::size(kColours)) % std::size(kDashes)];
        if (content_.n_runs > 1) {
            std::vector<std::size_t> before;  // quantities of the panel
            for (std::size_t i = 0; i < k; ++i)
                if (p.curves[i].quantity != c.quantity && std::find(before.begin(), before.end(), p.curves[i].quantity) == before.end())
                    before.push_back(p.curves[i].quantity);
            dash = run_dash(c.run, before.size() + before.size() / std::size(kColours));
        }
        return dash;
    }

    static std::string run_dash(std::size_t run, std::size_t dots)
    {
        if (run == 0 && dots == 0) return "solid";
        std::string out = fmt::format("({},4", kRunDashes[run % std::size(kRunDashes)]);
        for (std::size_t d = 0; d < dots % 4; ++d) out += ",2.5,4";
        return out + ")";
    }

    void panel(std::size_t index)
    {
        const PanelContent& p = content_.panels[index];
        const Box& b = boxes_[index];
        margins(b);
        Range x = x_range(p), left = y_range(p, p.units[0]);
        bool below = numbers_below(index);
        text_ +=
            below ? fmt::format("set xlabel {} offset 0,0.3 textcolor rgb '{}'\nset format x '%g'\n", gnuplot_text(p.x_label + " " + bracketed(p.x_unit)), kInk)
                  : "unset xlabel\nset format x ''\n";
        text_ += log_x(p) ? "set logscale x\nset xtics autofreq\n"
                          : fmt::format("unset logscale x\nset xtics {:.9g}\n", round_step(x.low, x.high, (b.right - b.left) / 95));
        text_ += log_y(p) ? "set logscale yy2\n" : "unset logscale yy2\n";
        text_ += fmt::format("set xrange [{:.12g}:{:.12g}]\nset yrange [{:.12g}:{:.12g}]\nset ytics nomirror{}\n", x.low, x.high, left.low, left.high,
                             y_tics(p, p.units[0], left, b.bottom - b.top));
        if (two(p)) {
            Range r = y_range(p, p.units[1]);
            text_ += fmt::format("set y2range [{:.12g}:{:.12g}]\nset y2tics{} textcolor rgb '{}'\nset border 11 lc rgb '{}'\n", r.low, r.high,
                                 y_tics(p, p.units[1], r, b.bottom - b.top), kInk, kFrame);
        } else {
            text_ += fmt::format("unset y2tics\nset border 3 lc rgb '{}'\n", kFrame);
        }
        int tag = legend_text(p, b);
        marks(p, tag);
        Plotted plotted;
        for (std::size_t k = 0; k < p.curves.size(); ++k) {
            const Curve& c = p.curves[k];
            Range y = right(p, c) ? y_range(p, p.units[1]) : left;
            Raster raster{x.low, x.high, static_cast<int>(b.right - b.left), log_y(p) ? HUGE_VAL : (y.high - y.low) / (b.bottom - b.top), log_x(p)};
            for (std::size_t n = 0; n < c.strokes.size(); ++n) {
                std::string look = style(p, k);
                if (c.strokes.size() > 1) {  // earlier cycles are fainter
                    double share = static_cast<double>(n) / static_cast<double>(c.strokes.size() - 1);
                    look = fmt::format("dt {} lc rgb '{}'", dash_of(p, k), faded(kColours[c.quantity % std::size(kColours)], 0.3 + 0.7 * share));
                }
                if (c.mark == Curve::Mark::line)
                    draw(p, outline_of(c.strokes[n], raster), right(p, c), look, c.quantity, plotted);
                else
                    draw_marks(c, c.strokes[n], plotted);
            }
        }
        text_ += "plot " + plotted.commands + "\n" + plotted.data;
        text_ += "unset arrow\n";
        for (int t = 1; t < tag; ++t) text_ += fmt::format("unset label {}\nunset label {}\n", t, 500 + t);
    }

    // Lines, and bands as a veil between two lines, so that what lies behind is seen.
    void draw(const PanelContent& panel, const Outline& outline, bool right, const std::string& look, std::size_t quantity, Plotted& plotted) const
    {
        std::string axes = right ? "axes x1y2" : "axes x1y1";
        auto row = [&](double x, double y) {
            bool drawable = std::isfinite(y) && (!log_y(panel) || y > 0) && (!log_x(panel) || x > 0);
            return drawable ? fmt::format("{:.10g} {:.10g}\n", x, y) : "\n";
        };
        auto line = [&](const std::vector<double>& x, const std::vector<double>& y, double width) {
            std::string rows;
            for (std::size_t i = 0; i < x.size(); ++i) rows += row(x[i], y[i]);
            plotted.add(fmt::format("'-' using 1:2 {} with lines lw {} {} notitle", axes, width, look), rows);
        };
        for (const Band& b : outline.bands) {
            std::string rows;
            for (std::size_t i = 0; i < b.x.size(); ++i) rows += fmt::format("{:.10g} {:.10g} {:.10g}\n", b.x[i], b.low[i], b.high[i]);
            const char* colour = kColours[quantity % std::size(kColours)];
            plotted.add(fmt::format("'-' using 1:2:3 {} with filledcurves fs transparent solid 0.3 noborder lc rgb '{}' notitle", axes, colour), rows);
            line(b.x, b.low, 1.2);
            line(b.x, b.high, 1.2);
        }
        for (const Stroke& s : outline.lines) line(s.x, s.y, s.x.size() > 4000 ? 1.2 : 1.8);
    }

    // Single places, and bars from one corner to the other.
    static void draw_marks(const Curve& c, const Stroke& s, Plotted& plotted)
    {
        std::string rows, colour = kColours[c.quantity % std::size(kColours)];
        if (c.mark == Curve::Mark::bar) {
            rows = fmt::format("{0:.10g} {1:.10g} {0:.10g} {2:.10g} {1:.10g} {3:.10g}\n", s.x[0], s.y[0], s.x[1], s.y[1]);
            plotted.add(fmt::format("'-' using 1:2:3:4:5:6 with boxxyerror fs solid 1 noborder lc rgb '{}' notitle", colour), rows);
            return;
        }
        for (std::size_t i = 0; i < s.x.size(); ++i) rows += fmt::format("{:.10g} {:.10g}\n", s.x[i], s.y[i]);
        const char* with = c.mark == Curve::Mark::cross ? "points pt 2 ps 1.4 lw 2" : "points pt 6 ps 1.5 lw 2";
        plotted.add(fmt::format("'-' using 1:2 with {} lc rgb '{}' notitle", with, colour), rows);
    }

    // Samples and names above the panel, the axes' units at its corners.
    int legend_text(const PanelContent& p, const Box& b)
    {
        int tag = 1;
        auto places = legend(p, b.right - b.left);
        double lines = 1 + places.back().first;
        for (std::size_t k = 0; k < p.curves.size(); ++k) {
            double x = b.left + places[k].second + 8, y = b.top - 6 - kLegend * (lines - places[k].first - 0.5);
            bool place = p.curves[k].mark == Curve::Mark::cross || p.curves[k].mark == Curve::Mark::ring;
            if (place)
                text_ += fmt::format("set label {} '{}' at screen {:.5f},{:.5f} center font ',{}' textcolor rgb '{}'\n", 500 + tag,
                                     p.curves[k].mark == Curve::Mark::cross ? "×" : "○", x_of(x + kSample / 2), y_of(y), 14,
                                     kColours[p.curves[k].quantity % std::size(kColours)]);
            else
                text_ += fmt::format("set arrow {} from screen {:.5f},{:.5f} to screen {:.5f},{:.5f} nohead lw 2 {}\n", tag, x_of(x), y_of(y),
                                     x_of(x + kSample), y_of(y), style(p, k));
            text_ += fmt::format("set label {} {} at screen {:.5f},{:.5f} left textcolor rgb '{}'\n", tag, gnuplot_text(label(p, p.curves[k])),
                                 x_of(x + kSample + 6), y_of(y), kInk);
            ++tag;
        }
        for (std::size_t side = 0; side < p.units.size(); ++side)
            text_ += fmt::format("set label {} {} at screen {:.5f},{:.5f} {} textcolor rgb '{}'\n", tag++, gnuplot_text(bracketed(p.units[side])),
                                 x_of(side == 0 ? b.left - 8 : b.right + 8), y_of(b.top - 6 - kLegend * 0.5), side == 0 ? "right" : "left", kInk);
        return tag;
    }

    // Where there are few events, each is a thin line through the panels.
    void marks(const PanelContent& p, int& tag)
    {
        std::size_t n = 0;
        for (const EventLane& lane : content_.lanes) n += lane.times.size();
        if (n == 0 || n > 40 || p.x_label != "time") return;
        for (const EventLane& lane : content_.lanes)
            for (double t : lane.times)
                text_ += fmt::format("set arrow {} from first {:.12g}, graph 0 to first {:.12g}, graph 1 nohead lw 0.7 dt (2,3) lc rgb '{}'\n", 100 + tag++, t,
                                     t, kMark);
    }

    void lanes()
    {
        Range x = x_range(content_.panels[0]);
        Box b{boxes_[0].left, boxes_[0].right, lanes_top_, lanes_top_ + kLane * static_cast<double>(content_.lanes.size())};
        margins(b);
        auto n = static_cast<double>(content_.lanes.size());
        text_ +=
            fmt::format("unset logscale\nset xlabel {} offset 0,0.3 textcolor rgb '{}'\nset format x '%g'\nset xtics {:.9g}\nset xrange [{:.12g}:{:.12g}]\n",
                        gnuplot_text("time [s]"), kInk, round_step(x.low, x.high, (b.right - b.left) / 95), x.low, x.high);
        text_ += fmt::format("set yrange [0:{}]\nunset ytics\nunset y2tics\nset border 1 lc rgb '{}'\n", n, kFrame);
        int tag = 1;
        for (std::size_t k = 0; k < content_.lanes.size(); ++k) {
            double low = n - static_cast<double>(k) - 1;
            for (double t : content_.lanes[k].times)
                text_ += fmt::format("set arrow {} from first {:.12g}, first {:.3f} to first {:.12g}, first {:.3f} nohead lw 2 lc rgb '{}'\n", tag++, t,
                                     low + 0.06, t, low + 0.42, kMark);
            std::string label = content_.lanes[k].label;
            if (letters(label) > 110) label = label.substr(0, 107) + "...";
            text_ += fmt::format("set label {} {} at screen {:.5f}, first {:.3f} left textcolor rgb '{}'\n", 1000 + k, gnuplot_text(label), x_of(b.left + 4),
                                 low + 0.72, kInk);
        }
        text_ += "plot -1 notitle lc rgb '#ffffff'\n";
    }

    const PageContent& content_;
    const PlotRequest& request_;
    std::vector<Box> boxes_;
    double lanes_top_ = 0;
    bool any_right_ = false;
    std::string text_;
};

}  // namespace

std::string page_script(const PageContent& page, const PlotRequest& request, const std::string& out)
{
    return Page(page, request).script(out);
}

}  // namespace netloop
