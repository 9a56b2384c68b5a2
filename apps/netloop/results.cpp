// SPDX-License-Identifier: Apache-2.0
// `results` and `rerun`: what a study found, as a table, CSV, JSON, a chart or a page; and any of its runs again.
#include "results.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "figures/study/study_charts.hpp"
#include "figures/study/study_page.hpp"
#include "files/csv_cells.hpp"
#include "files/input_file.hpp"
#include "files/output_file.hpp"
#include "store/columns.hpp"
#include "stores.hpp"

namespace {

using netloop::heading;
using netloop::in_unit;
using netloop::StudyColumn;
using netloop::StudyRecord;
using netloop::StudyRow;

struct Options {
    std::string store, study, sort, where, csv, chart, of, out, report;
    std::int64_t first = 20;
    bool most = false, json = false, all = false;
};

// Without the unit, which stands in the heading.
std::string cell(const StudyColumn& c, double value)
{
    if (std::isnan(value) || c.kind == StudyColumn::Kind::demand || c.unit == "bool" || !c.levels.empty()) return c.shown(value);
    return fmt::format("{:.5g}", in_unit(c, value));
}

// A number in the column's unit with all its digits; a word where it has words.
nlohmann::json plain(const StudyColumn& c, double value)
{
    if (std::isnan(value)) return nullptr;
    if (c.kind == StudyColumn::Kind::demand || c.unit == "bool") return value != 0;
    if (!c.levels.empty()) return c.shown(value);
    double shown = in_unit(c, value);
    return std::isfinite(shown) ? nlohmann::json(shown) : nlohmann::json(nullptr);
}

void print_json(const StudyRecord& s, const std::vector<StudyRow>& rows)
{
    nlohmann::json list = nlohmann::json::array();
    for (const StudyRow& r : rows) {
        nlohmann::json values = nlohmann::json::object();
        for (std::size_t c = 0; c < s.columns.size(); ++c) values[s.columns[c].name] = plain(s.columns[c], r.values[c]);
        nlohmann::json row{{"run", r.run}, {"status", r.status}, {"seconds", r.seconds}, {"steps", r.steps}, {"values", values}};
        if (!r.reason.empty()) row["reason"] = r.reason, row["id"] = r.id;
        if (!r.recording.empty()) row["recording"] = r.recording;
        list.push_back(std::move(row));
    }
    nlohmann::json columns = nlohmann::json::array();
    for (const StudyColumn& c : s.columns) columns.push_back({{"name", c.name}, {"unit", c.unit}});
    show_json({{"study", s.id},
               {"name", s.name},
               {"system", s.system},
               {"plan", s.plan},
               {"runs", s.n_runs},
               {"done", s.n_done},
               {"failed", s.n_failed},
               {"columns", columns},
               {"rows", list}});
}

std::string csv_of(const StudyRecord& s, const std::vector<StudyRow>& rows)
{
    std::string out = "run,status";
    for (const StudyColumn& c : s.columns) out += "," + netloop::csv_quoted(heading(c));
    out += ",seconds,steps,reason\n";
    for (const StudyRow& r : rows) {
        out += fmt::format("{},{}", r.run, r.status);
        for (std::size_t c = 0; c < s.columns.size(); ++c) {
            nlohmann::json v = plain(s.columns[c], r.values[c]);
            out += "," + (v.is_null() ? "" : v.is_string() ? netloop::csv_quoted(v.get<std::string>()) : v.dump());
        }
        out += fmt::format(",{:.6g},{},{}\n", r.seconds, r.steps, netloop::csv_quoted(r.reason));
    }
    return out;
}

bool is_csv_of_results(const std::string& path)
{
    constexpr std::size_t kHead = 16;
    return netloop::first_bytes(path, kHead).starts_with("run,status");
}

// Of a study that was taken for them: how much each thing moves each result, the most moving first.
std::string indices_text(netloop::Store& store, const StudyRecord& s)
{
    if ((s.take != "for_sobol" && s.take != "for_morris") || !s.complete()) return {};
    std::vector<StudyRow> rows = store.rows(s);
    std::string out = s.take == "for_sobol" ? "\nshare of the variance, alone / with others (95 %):\n"
                                            : "\nelementary effects over the whole range, mean of sizes (95 %), mean, spread:\n";
    for (std::size_t c = 0; c < s.columns.size(); ++c) {
        const StudyColumn& column = s.columns[c];
        if (column.kind != StudyColumn::Kind::measure) continue;
        std::vector<std::pair<double, std::string>> lines;
        for (const netloop::VarianceIndex& v : netloop::variance_indices(s, rows, c))
            lines.emplace_back(v.total, fmt::format("{:<32} {:6.3f} ({:.3f} .. {:.3f}) / {:.3f} ({:.3f} .. {:.3f})", v.name, v.first, v.first_low, v.first_high,
                                                    v.total, v.total_low, v.total_high));
        for (const netloop::ElementaryEffect& e : netloop::elementary_effects(s, rows, c)) {
            double k = column.scale;
            lines.emplace_back(e.size / k, fmt::format("{:<32} {:8.3g} ({:.3g} .. {:.3g}), {:.3g}, {:.3g}", e.name, e.size / k, e.size_low / k, e.size_high / k,
                                                       e.mean / k, e.spread / k));
        }
        std::stable_sort(lines.begin(), lines.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
        if (!lines.empty()) out += fmt::format("  {}\n", heading(column));
        for (const auto& [size, text] : lines) out += "    " + text + "\n";
    }
    return out;
}

int run_results(const Options& o)
{
    netloop::Store store = open_store(o.store);
    StudyRecord study = study_in(store, o.study);
    if (!o.report.empty()) {
        write_study_report(store, study, o.report);
        show("{}\n", o.report);
        return 0;
    }
    netloop::StudyQuery query;
    query.sort = o.sort;
    query.descending = o.most;
    query.where = o.where;
    bool whole = o.all || !o.csv.empty() || !o.chart.empty();
    query.most = whole ? -1 : o.first;
    std::vector<StudyRow> rows = store.rows(study, query);
    if (!o.chart.empty()) {
        std::string out = o.out.empty() ? study.name + "-" + o.chart + ".svg" : o.out;
        netloop::draw_study_chart(study, rows, {.kind = o.chart, .of = o.of, .most = o.first}, out);
        show("{}\n", out);
    } else if (!o.csv.empty()) {
        if (o.csv == "-")
            show("{}", csv_of(study, rows));
        else
            netloop::write_whole(o.csv, csv_of(study, rows), {.what = "results as CSV", .replaces = is_csv_of_results});
    } else if (o.json) {
        print_json(study, rows);
    } else {
        show("study {} {} of {}, {}, {}\n{}\n", study.id, study.name, study.system, study.author, study.created, study.plan);
        show_rows(study, rows);
        show("{} run{} shown; {} of {} done{}{}\n", rows.size(), rows.size() == 1 ? "" : "s", study.n_done, study.n_runs,
             study.n_failed > 0 ? fmt::format(", {} of them failed", study.n_failed) : "", indices_text(store, study));
    }
    return 0;
}

struct RerunOptions {
    std::string store, study, out;
    std::int64_t run = 0;
};

int run_rerun(const RerunOptions& o)
{
    netloop::Store store = open_store(o.store);
    StudyRecord study = study_in(store, o.study);
    netloop::RerunResult r = netloop::rerun(store, study.id, o.run, o.out);
    show_rows(study, {r.now});
    if (!r.now.reason.empty()) show("run {} {}: {}\n", o.run, r.now.status, r.now.reason);
    if (!r.now.recording.empty()) show("recorded  {}\n", r.now.recording);
    if (r.same) {
        show("the same as stored, to the last bit\n");
        return 0;
    }
    show("not the same as stored:\n");
    show_rows(study, {r.stored});
    if (r.version != NETLOOP_VERSION) show("the stored run was made by netloop {}, this is {}\n", r.version, NETLOOP_VERSION);
    if (r.stored.status == "limit") show("the stored run was ended by its time limit\n");
    return 1;
}

}  // namespace

void show_rows(const StudyRecord& s, const std::vector<StudyRow>& rows)
{
    std::vector<std::size_t> columns;
    std::size_t held = 0, empty = 0;
    for (std::size_t c = 0; c < s.columns.size(); ++c) {
        bool same = rows.size() > 1 && std::all_of(rows.begin(), rows.end(),
                                                   [&](const StudyRow& r) { return cell(s.columns[c], r.values[c]) == cell(s.columns[c], rows[0].values[c]); });
        bool none = std::all_of(rows.begin(), rows.end(), [&](const StudyRow& r) { return std::isnan(r.values[c]); });
        if (none && !rows.empty())
            ++empty;
        else if (same && s.columns[c].kind == StudyColumn::Kind::demand && rows[0].values[c] != 0)
            ++held;
        else if (same)
            show("  in all of them: {} {}\n", s.columns[c].name, s.columns[c].shown(rows[0].values[c]));
        else
            columns.push_back(c);
    }
    if (held > 0) show("  in all of them: {} demand{} met\n", held, held == 1 ? " is" : "s are");
    if (empty > 0) show("  none has a value of {} column{}\n", empty, empty == 1 ? "" : "s");
    constexpr std::size_t kWidest = 28;
    auto fitted = [](std::string text) {
        if (text.size() > kWidest) text = text.substr(0, kWidest - 3) + "...";
        return text;
    };
    std::vector<std::vector<std::string>> table{{"run"}};
    for (std::size_t c : columns) table[0].push_back(fitted(heading(s.columns[c])));
    for (const StudyRow& r : rows) {
        auto& line = table.emplace_back(1, std::to_string(r.run));
        for (std::size_t c : columns) line.push_back(fitted(cell(s.columns[c], r.values[c])));
    }
    std::vector<std::size_t> width(columns.size() + 1, 0);
    for (const auto& line : table)
        for (std::size_t c = 0; c < line.size(); ++c) width[c] = std::max(width[c], line[c].size());
    for (std::size_t l = 0; l < table.size(); ++l) {
        std::string text;
        for (std::size_t c = 0; c < table[l].size(); ++c) text += fmt::format("{:>{}}  ", table[l][c], width[c]);
        if (l > 0 && rows[l - 1].status != "done") text += fmt::format("{}: {}", rows[l - 1].status, rows[l - 1].reason.substr(0, 100));
        while (!text.empty() && text.back() == ' ') text.pop_back();
        show("  {}\n", text);
    }
}

void show_best(netloop::Store& store, const StudyRecord& study)
{
    constexpr std::int64_t kShown = 8;
    netloop::StudyQuery query;
    query.most = kShown;
    for (const StudyColumn& c : study.columns)
        if (query.sort.empty() && c.kind == StudyColumn::Kind::measure) query.sort = c.name;
    std::vector<StudyRow> rows = store.rows(study, query);
    if (!query.sort.empty() && rows.size() > 1) show("the {} with the least {}:\n", rows.size(), query.sort);
    show_rows(study, rows);
}

void write_study_report(netloop::Store& store, const StudyRecord& study, const std::string& out)
{
    netloop::write_study_page(study, store.rows(study), store.where(), out);
}

Command add_results(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("results", "Show what a study found: a table, CSV, JSON, a chart, a page");
    app->add_option("store", o->store, "the store: a file, postgresql://..., or the .loop file that it stands beside")->required();
    app->add_option("study", o->study, "the study, by name (its newest) or number (default: the newest of all)");
    app->add_option("--sort", o->sort, "by this column, least first");
    app->add_flag("--most", o->most, "with --sort: most first");
    app->add_option("--first", o->first, "how many rows (default 20)")->check(CLI::Range(std::int64_t{1}, std::int64_t{1} << 40));
    app->add_flag("--all", o->all, "all rows");
    app->add_option("--where", o->where, "only rows that meet a condition: \"peak < 210 bar and pump is p90\"");
    app->add_option("--csv", o->csv, "write all rows to this file; - for standard output");
    app->add_flag("--json", o->json, "print the rows for programs");
    app->add_option("--chart", o->chart, "draw: bars, radar, scatter, histogram or effects");
    app->add_option("--of", o->of, "what is drawn: one column, or two for a scatter: lift_time,energy");
    app->add_option("--out", o->out, "file of the chart, .svg or .png");
    app->add_option("--report", o->report, "write one .html page: table, charts, indices, curves");
    app->footer(
        "Example:  netloop results drive.loop which_drive --sort energy --where \"peak < 210 bar\"\n          netloop results drive.loop --chart scatter --of "
        "lift_time,energy --out front.svg");
    return {app, [o] { return run_results(*o); }};
}

Command add_rerun(CLI::App& program)
{
    auto o = std::make_shared<RerunOptions>();
    CLI::App* app = program.add_subcommand("rerun", "Make one run of a study again, from what the store holds of it");
    app->add_option("store", o->store, "the store: a file, postgresql://..., or the .loop file that it stands beside")->required();
    app->add_option("study", o->study, "the study, by name or number")->required();
    app->add_option("run", o->run, "number of the run")->required();
    app->add_option("--out", o->out, "record it to this file (.h5 or .csv)");
    app->footer("Example:  netloop rerun drive.loop which_drive 17 --out run17.h5");
    return {app, [o] { return run_rerun(*o); }};
}
