// SPDX-License-Identifier: Apache-2.0
#include "figures/study/study_charts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

#include "figures/palette.hpp"
#include "figures/picture_file.hpp"
#include "netloop/recording.hpp"
#include "store/columns.hpp"

namespace netloop {
namespace {

std::string quoted(const std::string& text)
{
    std::string out = "\"";
    for (char c : text) out += c == '"' || c == '\\' || c == '\n' ? ' ' : c;
    return out + "\"";
}

class Chart {
public:
    Chart(const StudyRecord& study, const std::vector<StudyRow>& rows, const StudyChart& chart) : study_(study), rows_(rows), chart_(chart)
    {
        std::string name;
        for (char c : chart.of + ",") {
            if (c != ',') {
                name += c;
            } else if (!name.empty()) {
                columns_.push_back(column(name));
                name.clear();
            }
        }
        for (std::size_t c = 0; c < study.columns.size(); ++c)
            if (study.columns[c].kind == StudyColumn::Kind::measure) measures_.push_back(c);
        if (measures_.empty()) throw UsageError(fmt::format("study '{}' collects no measure: there is nothing to draw", study.name));
    }

    std::string script(const std::string& out, const std::string& form)
    {
        std::string s = form == ".png" ? fmt::format("set terminal pngcairo noenhanced size {},{} font 'DejaVu Sans,11'\n", chart_.width, chart_.height)
                        : form == ".pdf"
                            ? fmt::format("set terminal pdfcairo noenhanced size {}cm,{}cm font 'DejaVu Sans,11'\n", chart_.width / 45, chart_.height / 45)
                            : fmt::format("set terminal svg size {},{} font 'DejaVu Sans,13' background 'white'\n", chart_.width, chart_.height);
        s += fmt::format(
            "set termoption noenhanced\nset output {}\nset title {}\nset border 3 lc rgb '#5d6770'\nset tics nomirror\nset grid lc rgb '#d5dbe0' lt 1\n",
            quoted(out), quoted(study_.name + " of " + study_.system + ": " + study_.plan));
        if (chart_.kind == "bars") return s + bars();
        if (chart_.kind == "radar") return s + radar();
        if (chart_.kind == "scatter") return s + scatter();
        if (chart_.kind == "histogram") return s + histogram();
        return s + effects();
    }

private:
    std::size_t column(const std::string& name) const
    {
        for (std::size_t c = 0; c < study_.columns.size(); ++c)
            if (study_.columns[c].name == name) return c;
        std::string all;
        for (const StudyColumn& c : study_.columns) all += (all.empty() ? "" : ", ") + c.name;
        throw UsageError(fmt::format("study '{}' has no column '{}' to draw; there are: {}", study_.name, name, all));
    }
    std::size_t first() const { return columns_.empty() ? measures_[0] : columns_[0]; }
    // What was varied, in few words.
    std::string label(const StudyRow& r) const
    {
        std::string text = fmt::format("run {}:", r.run);
        for (std::size_t c = 0; c < study_.columns.size(); ++c) {
            const StudyColumn& column = study_.columns[c];
            if (column.kind != StudyColumn::Kind::varied && column.kind != StudyColumn::Kind::uncertain) continue;
            if (text.size() < 44) text += " " + (column.levels.empty() ? fmt::format("{:.3g}", in_unit(column, r.values[c])) : column.shown(r.values[c]));
        }
        return text;
    }
    std::vector<const StudyRow*> shown(std::size_t c, std::size_t most) const
    {
        std::vector<const StudyRow*> list;
        for (const StudyRow& r : rows_)
            if (list.size() < most && std::isfinite(r.values[c])) list.push_back(&r);
        if (list.empty()) throw UsageError(fmt::format("no run gives a value of '{}'", study_.columns[c].name));
        return list;
    }

    std::string bars()
    {
        std::size_t c = first();
        auto list = shown(c, static_cast<std::size_t>(chart_.most));
        std::string s = "$d << EOD\n";
        for (std::size_t i = 0; i < list.size(); ++i)
            s += fmt::format("{} {:.9g} {}\n", list.size() - i, in_unit(study_.columns[c], list[i]->values[c]), quoted(label(*list[i])));
        s += fmt::format("EOD\nset xlabel {}\nset yrange [0.3:{}]\nset lmargin 44\nunset key\nset xrange [*<0:*]\n", quoted(heading(study_.columns[c])),
                         static_cast<double>(list.size()) + 0.7);
        return s + fmt::format("plot $d using ($2/2):1:($2/2):(0.36):ytic(3) with boxxyerror fs solid 0.9 lc rgb '{}'\n", kColours[0]);
    }

    std::string radar()
    {
        const auto& axes = columns_.size() > 2 ? columns_ : measures_;
        if (axes.size() < 3) throw UsageError("a radar needs three columns or more: --of a,b,c");
        std::size_t most = std::min<std::size_t>(static_cast<std::size_t>(chart_.most), std::size(kColours));
        auto list = shown(axes[0], most);
        // polygons in the plane: the first axis points up, the others follow by the clock
        std::vector<double> most_of;
        auto at = [&](std::size_t k, double share) {
            double angle = 2 * std::numbers::pi * static_cast<double>(k) / static_cast<double>(axes.size());
            return fmt::format("{:.5f} {:.5f}\n", share * std::sin(angle), share * std::cos(angle));
        };
        std::string s = "unset border\nunset tics\nunset grid\nset size ratio -1\nset xrange [-1.9:1.9]\nset yrange [-1.2:1.25]\nset key below\n", plots;
        for (std::size_t k = 0; k < axes.size(); ++k) {
            const StudyColumn& c = study_.columns[axes[k]];
            double m = 0;
            for (const StudyRow* r : list) m = std::max(m, std::abs(in_unit(c, r->values[axes[k]])));
            most_of.push_back(m > 0 ? m : 1);
            std::string place = at(k, 1.1);
            place.pop_back();
            std::replace(place.begin(), place.end(), ' ', ',');
            double side = std::sin(2 * std::numbers::pi * static_cast<double>(k) / static_cast<double>(axes.size()));
            s += fmt::format("set label {} at {} {}\n", quoted(fmt::format("{} (100 %: {:.4g} {})", c.name, most_of[k], c.unit == "1" ? "" : c.unit)), place,
                             side > 0.2    ? "left"
                             : side < -0.2 ? "right"
                                           : "center");
        }
        for (int ring = 1; ring <= 4; ++ring) {
            s += fmt::format("$ring{} << EOD\n", ring);
            for (std::size_t k = 0; k <= axes.size(); ++k) s += at(k % axes.size(), 0.25 * ring);
            s += fmt::format("EOD\nset label '{} %' at 0.02,{} textcolor rgb '#5d6770'\n", 25 * ring, 0.25 * ring + 0.03);
            plots += fmt::format("{}$ring{} with lines lc rgb '#d5dbe0' notitle", plots.empty() ? "" : ", ", ring);
        }
        s += "$spokes << EOD\n";
        for (std::size_t k = 0; k < axes.size(); ++k) s += "0 0\n" + at(k, 1) + "\n";
        s += "EOD\n";
        plots += ", $spokes with lines lc rgb '#d5dbe0' notitle";
        for (std::size_t i = 0; i < list.size(); ++i) {
            s += fmt::format("$r{} << EOD\n", i);
            for (std::size_t k = 0; k <= axes.size(); ++k) {
                std::size_t a = k % axes.size();
                s += at(a, std::abs(in_unit(study_.columns[axes[a]], list[i]->values[axes[a]])) / most_of[a]);
            }
            s += "EOD\n";
            plots += fmt::format(", $r{} with linespoints pt 7 ps 0.6 lw 2 lc rgb '{}' title {}", i, kColours[i], quoted(label(*list[i])));
        }
        return s + "plot " + plots + "\n";
    }

    std::string scatter()
    {
        std::size_t a = columns_.empty() ? measures_[0] : columns_[0], b = columns_.size() > 1    ? columns_[1]
                                                                           : measures_.size() > 1 ? measures_[1]
                                                                                                  : measures_[0];
        const StudyColumn* by = nullptr;
        std::size_t c = 0;
        for (std::size_t k = 0; k < study_.columns.size() && by == nullptr; ++k)
            if (!study_.columns[k].levels.empty() && k != a && k != b) by = &study_.columns[k], c = k;
        std::string s = fmt::format("set xlabel {}\nset ylabel {}\nset key outside right\nset offsets graph 0.03, graph 0.03, graph 0.05, graph 0.05\n",
                                    quoted(heading(study_.columns[a])), quoted(heading(study_.columns[b])));
        std::size_t groups = by != nullptr ? by->levels.size() : 1;
        std::string plots;
        for (std::size_t g = 0; g < groups; ++g) {
            std::string points;
            for (const StudyRow& r : rows_)
                if (std::isfinite(r.values[a]) && std::isfinite(r.values[b]) && (by == nullptr || static_cast<std::size_t>(r.values[c]) == g))
                    points += fmt::format("{:.9g} {:.9g}\n", in_unit(study_.columns[a], r.values[a]), in_unit(study_.columns[b], r.values[b]));
            if (points.empty()) continue;
            s += fmt::format("$g{} << EOD\n{}EOD\n", g, points);
            plots += fmt::format("{}$g{} with points pt 7 ps {} lc rgb '{}' title {}", plots.empty() ? "" : ", ", g, rows_.size() > 2000 ? 0.3 : 0.8,
                                 kColours[g % std::size(kColours)], by != nullptr ? quoted(by->name + " " + by->levels[g]) : "'runs'");
        }
        if (plots.empty()) throw UsageError("no run gives values of both");
        s += "$front << EOD\n";
        for (std::size_t i : best_front(rows_, a, b))
            s += fmt::format("{:.9g} {:.9g}\n", in_unit(study_.columns[a], rows_[i].values[a]), in_unit(study_.columns[b], rows_[i].values[b]));
        s += "EOD\n";
        return s + "plot " + plots +
               ", $front with steps lc rgb '#22282e' lw 1.5 notitle, $front with points pt 6 ps 1.8 lc rgb '#22282e' title 'no run is less in both'\n";
    }

    std::string histogram()
    {
        std::size_t c = first();
        std::vector<double> values;
        for (const StudyRow* r : shown(c, std::numeric_limits<std::size_t>::max())) values.push_back(in_unit(study_.columns[c], r->values[c]));
        std::sort(values.begin(), values.end());
        double low = values.front(), high = values.back();
        if (!(high > low)) low -= 0.5 * std::max(1e-12, std::abs(low)), high += 0.5 * std::max(1e-12, std::abs(high));
        auto n = static_cast<std::size_t>(std::clamp(1.5 * std::sqrt(static_cast<double>(values.size())), 5.0, 60.0));
        std::vector<std::size_t> bins(n, 0);
        for (double v : values) ++bins[std::min(n - 1, static_cast<std::size_t>((v - low) / (high - low) * static_cast<double>(n)))];
        double width = (high - low) / static_cast<double>(n);
        std::string s = "$d << EOD\n";
        for (std::size_t i = 0; i < n; ++i) s += fmt::format("{:.9g} {}\n", low + (static_cast<double>(i) + 0.5) * width, bins[i]);
        s += fmt::format("EOD\nset xlabel {}\nset ylabel 'runs'\nset yrange [0:*]\nset boxwidth {:.9g}\nset key top right\n",
                         quoted(heading(study_.columns[c])), 0.95 * width);
        std::string lines;
        double most = static_cast<double>(*std::max_element(bins.begin(), bins.end()));
        for (int p : {5, 50, 95}) {
            double v = values[std::min(values.size() - 1, static_cast<std::size_t>(p / 100.0 * static_cast<double>(values.size())))];
            s += fmt::format("$p{} << EOD\n{:.9g} 0\n{:.9g} {:.9g}\nEOD\n", p, v, v, most * 1.05);
            lines += fmt::format(", $p{0} with lines lw 2 dt {1} lc rgb '{2}' title '{0} %: {3:.4g}'", p, p == 50 ? 1 : 2, kColours[2], v);
        }
        return s + fmt::format("plot $d using 1:2 with boxes fs solid 0.8 lc rgb '{}' notitle{}\n", "#7c8a96", lines);
    }

    std::string effects()
    {
        std::size_t c = first();
        const StudyColumn& result = study_.columns[c];
        auto all = main_effects(study_, rows_, c);
        std::erase_if(all, [](const MainEffect& e) { return e.mean.empty(); });
        if (all.empty()) throw UsageError(fmt::format("no run gives a value of '{}'", result.name));
        std::stable_sort(all.begin(), all.end(), [](const MainEffect& x, const MainEffect& y) { return x.swing > y.swing; });
        double low = HUGE_VAL, high = -HUGE_VAL;
        for (const MainEffect& e : all)
            for (std::size_t i = 0; i < e.mean.size(); ++i) low = std::min(low, in_unit(result, e.low[i])), high = std::max(high, in_unit(result, e.high[i]));
        if (!(high > low)) low -= 1, high += 1;
        int wide = all.size() < 3 ? static_cast<int>(all.size()) : all.size() < 7 ? 3 : 4, rows = (static_cast<int>(all.size()) + wide - 1) / wide;
        std::string s = fmt::format("set multiplot layout {},{} title {}\nunset title\nunset key\nset yrange [{:.6g}:{:.6g}]\nset rmargin 3\n", rows, wide,
                                    quoted(fmt::format("{} of {}: means of {} with their 95 % lines", study_.name, study_.system, heading(result))),
                                    low - 0.05 * (high - low), high + 0.05 * (high - low));
        for (std::size_t k = 0; k < all.size(); ++k) {
            const MainEffect& e = all[k];
            const StudyColumn& of = study_.columns[column(e.name)];
            s += fmt::format("$e{} << EOD\n", k);
            for (std::size_t i = 0; i < e.at.size(); ++i)
                s += fmt::format("{:.9g} {:.9g} {:.9g} {:.9g} {}\n", in_unit(of, e.at[i]), in_unit(result, e.mean[i]), in_unit(result, e.low[i]),
                                 in_unit(result, e.high[i]), quoted(of.levels.empty() ? "" : of.shown(e.at[i])));
            s += fmt::format("EOD\nset xlabel {}\nset offsets graph 0.1, graph 0.1, 0, 0\nset xtics auto {}\n", quoted(heading(of)),
                             of.levels.empty() ? "norotate" : "rotate by -25");
            // three numbers at most stand below each other without touching
            if (of.levels.empty() && e.at.size() > 1) {
                double a = in_unit(of, e.at.front()), b = in_unit(of, e.at.back());
                s += fmt::format("set xtics ('{:.3g}' {:.9g}, '{:.3g}' {:.9g}, '{:.3g}' {:.9g}) norotate\n", a, a, (a + b) / 2, (a + b) / 2, b, b);
            }
            s += fmt::format("plot $e{0} using 1:2:3:4{1} with yerrorbars pt 7 lw 2 lc rgb '{2}', $e{0} using 1:2 with lines lw {3} lc rgb '{2}'\n", k,
                             of.levels.empty() ? "" : ":xtic(5)", kColours[0], of.levels.empty() ? 2 : 0.5);
        }
        return s + "unset multiplot\n";
    }

    const StudyRecord& study_;
    const std::vector<StudyRow>& rows_;
    const StudyChart& chart_;
    std::vector<std::size_t> columns_, measures_;
};

}  // namespace

void draw_study_chart(const StudyRecord& study, const std::vector<StudyRow>& rows, const StudyChart& chart, const std::string& out)
{
    static constexpr const char* kKinds[] = {"bars", "radar", "scatter", "histogram", "effects"};
    if (std::none_of(std::begin(kKinds), std::end(kKinds), [&](const char* k) { return chart.kind == k; }))
        throw UsageError(fmt::format("there is no chart '{}'; there are: {}", chart.kind, fmt::join(kKinds, ", ")));
    std::string form = picture_form(out);
    if (form != ".png" && form != ".svg" && form != ".pdf") throw RecordingError(fmt::format("'{}': a chart is written as .png, .svg or .pdf", out));
    Chart drawn(study, rows, chart);
    draw_by(
        "gnuplot", [](const std::string&) { return std::vector<std::string>{}; }, [&](const std::string& unfinished) { return drawn.script(unfinished, form); },
        out, {});
}

}  // namespace netloop
