// SPDX-License-Identifier: Apache-2.0
// `convert`: a recording in another form, with fewer quantities, other units or evenly spaced rows.
#include <fmt/format.h>

#include <cmath>
#include <memory>

#include "commands.hpp"

namespace {

struct Options {
    std::string in, out, every, from, to;
    std::vector<std::string> quantities;
};

// The columns asked for, in the order in which they were asked for; a unit behind a colon changes what is shown, not the value.
void choose(netloop::Recording& r, const std::vector<std::string>& quantities)
{
    if (quantities.empty()) return r.fetch({"*"});
    std::vector<netloop::Column> chosen{r.columns[0]};
    for (std::string wanted : quantities) {
        std::string unit;
        if (std::size_t colon = wanted.rfind(':'); colon != std::string::npos) unit = wanted.substr(colon + 1), wanted.resize(colon);
        r.fetch({wanted});
        bool any = false;
        for (std::size_t i = 1; i < r.columns.size(); ++i) {
            if (!netloop::fits_pattern(wanted, r.columns[i].name)) continue;
            any = true;
            netloop::Column c = r.columns[i];
            if (!unit.empty()) {
                // SI = display * scale + offset: two values tell both
                netloop::Column probe = c;
                probe.values = {0, 1};
                netloop::Column shown = probe.in(unit);
                c.unit = unit;
                c.scale = 1 / (shown.values[1] - shown.values[0]);
                c.offset = -shown.values[0] * c.scale;
            }
            chosen.push_back(std::move(c));
        }
        if (!any) (void)r[wanted];  // tells near names
    }
    r.columns = std::move(chosen);
}

void resample(netloop::Recording& r, const Options& o)
{
    if (o.every.empty() && o.from.empty() && o.to.empty()) return;
    double from = o.from.empty() ? r.time().first() : seconds_from(o.from, "--from"), to = o.to.empty() ? r.time().final() : seconds_from(o.to, "--to");
    if (!(to >= from)) throw netloop::UsageError(fmt::format("from {:g} s to {:g} s: there is no time between", from, to));
    std::vector<netloop::Column> made = r.columns;
    for (netloop::Column& c : made) c.values.clear();
    auto row = [&](double t) {
        made[0].values.push_back(t);
        for (std::size_t i = 1; i < made.size(); ++i) made[i].values.push_back(r.columns[i].at(t, r.time()));
    };
    if (o.every.empty()) {
        for (std::size_t k = 0; k < r.n_rows(); ++k)
            if (r.time().values[k] >= from && r.time().values[k] <= to)
                for (std::size_t i = 0; i < made.size(); ++i) made[i].values.push_back(r.columns[i].values[k]);
    } else {
        double every = seconds_from(o.every, "--every");
        if (!(every > 0) || (to - from) / every > 1e8)
            throw netloop::UsageError(fmt::format("--every {}: a time above 0, and at most 100 million rows", o.every));
        double per_second = std::round(1 / every);  // 3 / 20 is written 0.15, 3 * 0.05 is not
        bool whole = std::abs(per_second * every - 1) < 1e-12;
        auto time = [&](double k) { return from + (whole ? k / per_second : k * every); };
        for (std::size_t k = 0; time(static_cast<double>(k)) <= to * (1 + 1e-12); ++k) row(std::min(time(static_cast<double>(k)), to));
    }
    if (made[0].values.empty()) throw netloop::UsageError(fmt::format("the recording has no row from {:g} s to {:g} s", from, to));
    r.columns = std::move(made);
}

int run_convert(const Options& o)
{
    netloop::Recording r = open_recording(o.in);
    if (r.n_rows() == 0) throw netloop::RecordingError(fmt::format("'{}' has no rows", o.in));
    choose(r, o.quantities);
    resample(r, o);
    if (o.out == "-") output_is_taken();
    for (const std::string& note : r.save(o.out, {o.in})) tell("note: {}\n", note);
    show("{}: {} rows, {} quantities\n", o.out, r.n_rows(), r.columns.size() - 1);
    return 0;
}

}  // namespace

Command add_convert(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app =
        program.add_subcommand("convert", "Write a recording in another form: HDF5 to CSV or back, chosen quantities and units, evenly spaced rows");
    app->add_option("in", o->in, "the recording (.h5 or .csv)")->required();
    app->add_option("out", o->out, "the file to write (.h5 or .csv), or - for rows (CSV) on standard output")->required();
    app->add_option("quantities", o->quantities, "only these: paths or patterns such as pump.*, with a unit leaf.angle:rad");
    app->add_option("--every", o->every, "rows this far apart, between recorded ones by straight lines, such as 10ms (default: the rows as they are)");
    app->add_option("--from", o->from, "from this time on");
    app->add_option("--to", o->to, "up to this time");
    app->footer("Example:  netloop convert bridge.h5 bridge.csv leaf.angle:rad pump.* --every 50ms");
    return {app, [o] { return run_convert(*o); }};
}
