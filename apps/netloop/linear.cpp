// SPDX-License-Identifier: Apache-2.0
// `linear`: a linear model at a point of a run.
#include <fmt/format.h>

#include <cmath>
#include <memory>

#include "figures/analyses.hpp"
#include "points.hpp"

namespace {

struct Options {
    PointOptions point;
    std::string at = "0", out, draw, verify, until;
    std::vector<std::string> inputs, outputs, open;
    double cancel = 1e-6;
    bool si = false, json = false, sparse = false;
};

// "1%" of the input's value, or a size with its unit.
double step_size(const std::string& text, const netloop::LinearModel::Signal& input)
{
    if (text.empty()) return 0;
    if (text.back() == '%') {
        netloop::Quantity share = quantity_from(text.substr(0, text.size() - 1), "1", "--verify", "a share or a size", "1%");
        return share.value / 100 * std::max(std::abs(input.at), input.scale);
    }
    netloop::Quantity size = quantity_from(text, input.display, "--verify", "a share of the input, or a size", "1%");
    // of a difference: K for degC
    netloop::Quantity none{0, size.unit};
    return size.si() - none.si();
}

void print_margins(const netloop::LinearModel& model)
{
    for (std::size_t i = 0; i < model.inputs.size(); ++i)
        for (std::size_t o = 0; o < model.outputs.size(); ++o) {
            if (model.outputs[o].name != "source of " + model.inputs[i].name) continue;
            netloop::Margins m = model.margins(i, o);
            show("\nloop opened at {}: {} when closed\n", model.inputs[i].name, m.stable ? "stable" : "NOT stable");
            show("  phase margin  {}\n",
                 m.phase_at > 0 ? fmt::format("{:.4g} deg at {:.4g} Hz", m.phase, m.phase_at) : "none: the loop's amplitude is never 1");
            show("  gain margin   {}\n", m.gain_at > 0 ? fmt::format("{:.4g} dB (factor {:.4g}) at {:.4g} Hz", 20 * std::log10(m.gain), m.gain, m.gain_at)
                                                       : "none: the phase is never -180 deg");
            if (std::isfinite(m.delay)) show("  delay margin  {:.4g} s\n", m.delay);
        }
}

// Of a system too large for tables, or where that is asked for.
int tell_sparse(const Options& o, netloop::Run& run, const netloop::LinearRequest& request, const PointSource& source)
{
    if (!o.verify.empty())
        throw netloop::UsageError(fmt::format("--verify: a step is held against tables, of at most {} states", netloop::kMostStatesInTables));
    netloop::DescriptorModel model = run.descriptor_model(request);
    if (!o.si) model = model.displayed();
    if (!o.out.empty()) model.save(o.out, {o.point.file});
    if (!o.draw.empty()) {
        if (model.inputs.empty() || model.outputs.empty()) throw netloop::UsageError("a picture needs an input and an output");
        netloop::ModesRequest ends;
        ends.count = 1;
        ends.sensitivities = false;
        double low = HUGE_VAL, high = 0;
        for (const netloop::Mode& m : run.modes(ends).modes) {
            high = std::max(high, m.root.frequency());
            if (m.root.frequency() > 0) low = std::min(low, m.root.frequency());
        }
        if (high == 0) low = high = 1;
        constexpr int kFrequencies = 200;
        constexpr double kBeyond = 30;  // a decade and a half
        std::vector<double> hertz;
        for (int k = 0; k < kFrequencies; ++k)
            hertz.push_back(low / kBeyond * std::pow(high / low * kBeyond * kBeyond, static_cast<double>(k) / (kFrequencies - 1)));
        std::string title = fmt::format("{}: {} from {} at {:g} s", source.system().name(), model.outputs[0].name, model.inputs[0].name, model.time);
        netloop::draw_answer(model, 0, 0, hertz, {.title = title, .out = o.draw, .inputs = {o.point.file}});
    }
    if (o.json) {
        show("{}\n", model.json());
        return 0;
    }
    show("{}{}: {}", source.system().name(), source.system().scenario().empty() ? "" : ", scenario " + source.system().scenario(), model.text());
    for (const std::string& path : {o.out, o.draw})
        if (!path.empty()) show("{}\n", path);
    return 0;
}

int run_linear(const Options& o)
{
    netloop::LinearRequest request{.inputs = o.inputs, .outputs = o.outputs, .open = o.open};
    std::vector<std::string> signals = o.inputs;
    signals.insert(signals.end(), o.open.begin(), o.open.end());
    if (o.inputs.empty() && !o.outputs.empty()) throw netloop::UsageError("an output without an input: name what acts with --input");
    if (!o.verify.empty() && signals.empty()) throw netloop::UsageError("--verify needs an input to step");
    double time = seconds_from(o.at, "--at");
    PointSource source(o.point, signals);
    netloop::Run run = source.run();
    source.bring(run, time);
    if (o.sparse || run.n_states() > netloop::kMostStatesInTables) return tell_sparse(o, run, request, source);
    netloop::LinearModel si = run.linear(request), model = o.si ? si : si.displayed();
    std::optional<netloop::LinearCheck> check;
    if (!o.verify.empty()) {
        for (std::size_t i = 0; i < si.inputs.size(); ++i) {
            netloop::LinearCheckOptions options{.input = i, .size = step_size(o.verify, si.inputs[i])};
            if (!o.until.empty()) options.until = seconds_from(o.until, "--until");
            options.most = source.stop().value_or(HUGE_VAL) - time;
            auto to_point = [&](netloop::Run& to, const netloop::RunOptions& exact) {
                netloop::RunOptions with = exact;
                with.stop = time + 1;
                to = source.run();
                to.begin(with);
                if (!to.step_to(time)) throw netloop::UsageError(fmt::format("the run does not reach {:g} s: {}", time, to.summary().reason));
            };
            netloop::LinearCheck made = netloop::check_linear(source.system(), to_point, request, options);
            if (!check || made.worst() > check->worst()) check = std::move(made);
        }
    }
    if (!o.out.empty()) model.save(o.out, {o.point.file});
    if (!o.draw.empty()) {
        if (model.inputs.empty() || model.outputs.empty()) throw netloop::UsageError("a picture needs an input and an output");
        std::string title = fmt::format("{}: {} from {} at {:g} s", source.system().name(), model.outputs[0].name, model.inputs[0].name, time);
        netloop::draw_linear(model, 0, 0, check ? &*check : nullptr, {.title = title, .out = o.draw, .inputs = {o.point.file}});
    }
    if (o.json) {
        show("{}\n", model.json(o.cancel));
    } else {
        show("{}{}: {}", source.system().name(), source.system().scenario().empty() ? "" : ", scenario " + source.system().scenario(), model.text(o.cancel));
        print_margins(model);
        if (check)
            show("\n{}", check->text());
        else if (!signals.empty() && !model.outputs.empty())
            show("\nnot held against the model itself: --verify does\n");
    }
    for (const std::string& path : {o.out, o.draw})
        if (!path.empty() && !o.json) show("{}\n", path);
    constexpr double kFar = 0.05;
    if (check && check->worst() > kFar) {
        tell(
            "error: over a step of {:.4g} (SI) of '{}' the linear model is off by {:.2g} % of the answer: it does not hold so far, or something happens on the "
            "way\n",
            check->size, check->input, 100 * check->worst());
        return 1;
    }
    return 0;
}

}  // namespace

Command add_linear(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("linear", "Linear model at a point: poles, zeros, transfer functions, matrices, frequency answer");
    add_point_options(*app, o->point);
    app->add_option("--at", o->at, "the time of the point, such as 12s (default: the settled start)");
    app->add_option("--input", o->inputs, "what acts: an input of a part or of the system, or a param; may be repeated")->allow_extra_args(false);
    app->add_option("--output", o->outputs, "what is looked at: a quantity; may be repeated")->allow_extra_args(false);
    app->add_option("--open", o->open, "open the loop at this signal: it acts where it is read, and what gives it is looked at")->allow_extra_args(false);
    app->add_option("--verify", o->verify, "hold it against the model itself over a small step of each input: 1%, or a size such as 0.2bar")
        ->expected(0, 1)
        ->default_str("1%");
    app->add_option("--until", o->until, "how long the answer to that step is followed, such as 2s (default: until the slowest pole has settled)");
    app->add_flag("--si", o->si, "numbers in SI instead of the units of the declarations");
    app->add_option("--cancel", o->cancel, "leave out poles and zeros that differ by less than this share (default 1e-6)")->check(CLI::Range(0.0, 0.1));
    app->add_flag("--sparse", o->sparse,
                  fmt::format("as sparse matrices over all unknowns, E z' = A z + B u, y = C z + D u; of more than {} states it always is",
                              netloop::kMostStatesInTables));
    app->add_option("--out", o->out, "write it: .json, .csv, .h5 or .mat");
    app->add_option("--draw", o->draw, "draw frequency answer, poles and zeros, locus and step answer: .png, .svg or .pdf");
    app->add_flag("--json", o->json, "print it for programs");
    app->footer("Example:  netloop linear examples/bascule/bridge.loop --at 12s --input valve.command --output leaf.angle --verify --until 1s");
    return {app, [o] { return run_linear(*o); }};
}
