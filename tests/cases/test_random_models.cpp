// SPDX-License-Identifier: Apache-2.0
// Random models from a seed: chains of blocks that feed each other, lets, functions, tables, arrays, options, switching, hidden constraints. Each is run,
// verified against its text, and compared with an integration that uses no pass of ours: IDA on the equations as written, with a Jacobian by differences.
// NETLOOP_RANDOM=100000 runs as many of them; NETLOOP_RANDOM_FROM sets the first seed.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <random>

#include "cases/plain_ida.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

class Writer {
public:
    explicit Writer(unsigned seed) : random_(seed) {}

    // Equations whose solution exists and is the only one: every block is a contraction or has a dominant diagonal.
    std::string model()
    {
        std::string text = "function bend(x : 1, k : 1) -> 1 {\n    let y = tanh(x)\n    return k * y + 0.1 * x\n}\n";
        text += "table curve(x : 1) -> 1 { -3 : -1, -1 : -0.6, 0 : 0.1, 2 : 0.7, 3 : 0.8 } smooth, extend\n";
        text += "system S {\n    option rich = true\n";
        int n_states = pick(2, 5);
        for (int i = 0; i < n_states; ++i) states_.push_back(fmt::format("x{}", i)), known_.push_back(states_.back());
        for (const std::string& x : states_) text += fmt::format("    var {} : 1 init {:.3f}\n", x, number(-1, 1));
        int n_blocks = pick(1, 5);
        for (int b = 0; b < n_blocks; ++b) text += block(b);
        for (const std::string& x : states_) text += fmt::format("    {}' = (-{:.3f} * {} + {}) * 1 s^-1\n", x, number(0.5, 3), x, term(0.7));
        if (pick(0, 2) == 0) text += tied();
        return text + "}\n";
    }

private:
    int pick(int low, int high) { return std::uniform_int_distribution<>(low, high)(random_); }
    double number(double low, double high) { return std::uniform_real_distribution<>(low, high)(random_); }
    std::string any() { return known_[static_cast<std::size_t>(pick(0, static_cast<int>(known_.size()) - 1))]; }

    // Something smooth, or with a corner, of what is known, not larger than a few.
    std::string term(double size)
    {
        std::string x = any(), y = any();
        switch (pick(0, 9)) {
            case 0:
                return fmt::format("{:.3f} * sin({} + {:.3f} * time / (1 s))", size, x, number(0.5, 4));
            case 1:
                return fmt::format("{:.3f} * bend({}, {:.3f})", size, x, number(-1, 1));
            case 2:
                return fmt::format("{:.3f} * curve({})", size, x);
            case 3:
                return fmt::format("{:.3f} * {} * {} / (1 + {}^2)", size, x, y, y);
            case 4:
                return fmt::format("{:.3f} * max({}, {:.3f})", size, x, number(-0.5, 0.5));
            case 5:
                return fmt::format("{:.3f} * (if {} > 0.2 then 0.5 * ({} - 0.2) else 0.1 * ({} - 0.2))", size, x, x, x);
            case 6:
                return fmt::format("{:.3f} * abs({})", size, x);
            case 7:
                return fmt::format("{:.3f} * atan2({}, 2)", size, x);
            case 8:
                return fmt::format("{:.3f} * {} - {:.3f} * {}", size, x, 0.5 * size, y);
            default:
                return fmt::format("{:.3f} * sqrt(1 + {}^2)", size, x);
        }
    }

    std::string block(int b)
    {
        std::string text;
        int n = pick(1, 4);
        std::vector<std::string> u;
        for (int i = 0; i < n; ++i) u.push_back(fmt::format("u{}_{}", b, i));
        int kind = pick(0, 3);
        if (kind == 0) {  // a let
            text = fmt::format("    let {} = {}\n", u[0], term(1));
            known_.push_back(u[0]);
            return text;
        }
        if (kind == 1) {  // an array, each cell leaning on its neighbours
            text = fmt::format("    var a{}[{}] : 1\n", b, n + 1);
            for (int i = 1; i <= n + 1; ++i) text += fmt::format("    a{}[{}]{} = {}\n", b, i, i > 1 ? fmt::format(" - 0.4 * a{}[{}]", b, i - 1) : "", term(1));
            text += fmt::format("    var m{} : 1\n    m{} = sum(a{}[i] for i in 1 .. {}) / {}\n", b, b, b, n + 1, n + 1);
            known_.push_back(fmt::format("m{}", b));
            return text;
        }
        for (const std::string& x : u) text += fmt::format("    var {} : 1\n", x);
        for (int i = 0; i < n; ++i) {
            auto own = static_cast<std::size_t>(i);
            std::string left = fmt::format("{:.3f} * {}", number(2, 4), u[own]);
            for (int j = 0; j < n; ++j)
                if (j != i)
                    left += kind == 2 ? fmt::format(" + {:.3f} * {}", number(-0.5, 0.5), u[static_cast<std::size_t>(j)])
                                      : fmt::format(" + {:.3f} * sin({})", number(-0.4, 0.4), u[static_cast<std::size_t>(j)]);
            if (kind == 3) left += fmt::format(" + 0.2 * {}^3", u[own]);
            text += fmt::format("    if rich {{ {} = {} }} else {{ {} = 0 }}\n", left, term(1), u[own]);
        }
        known_.insert(known_.end(), u.begin(), u.end());
        return text;
    }

    // Two contents side by side: one rate too many, and a flow between them that nothing else settles (index 2).
    std::string tied()
    {
        return fmt::format(
            "    var c, d, flow : 1\n    init c = {:.3f}\n    c' = ({} - flow - c) * 1 s^-1\n    {:.3f} * d' = (flow - 0.5 * d) * 1 s^-1\n    d = 2 * c + 0.3 "
            "* {}\n",
            number(-1, 1), term(0.5), number(0.5, 2), states_[0]);
    }

    std::mt19937 random_;
    std::vector<std::string> states_, known_;
};

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("two hundred random models: verified against their text, and as IDA integrates them without any pass")
{
    const char* many = std::getenv("NETLOOP_RANDOM");
    const char* from = std::getenv("NETLOOP_RANDOM_FROM");
    unsigned n = many != nullptr ? static_cast<unsigned>(std::atoi(many)) : 200, first = from != nullptr ? static_cast<unsigned>(std::atoi(from)) : 1;
    constexpr double kStop = 2;
    unsigned compared = 0, tied = 0;
    for (unsigned seed = first; seed < first + n; ++seed) {
        std::string text = Writer(seed).model();
        INFO("seed " << seed << "\n" << text);
        CompiledSystem system = test::compile(text);
        Run run(system);
        RunOptions options;
        options.stop = kStop;
        options.tolerance = 1e-10;
        options.output_every = 0.05;
        options.verify = true;
        Recording rec = run.simulate(options);
        INFO(run.summary().verification.text(true));
        CHECK(run.summary().verification.holds);
        if (text.find("flow") != std::string::npos) {  // hidden constraints are beyond IDA on the plain equations
            ++tied;
            for (std::size_t k = 0; k < rec.n_rows(); ++k) CHECK(std::abs(rec["d"].values[k] - 2 * rec["c"].values[k] - 0.3 * rec["x0"].values[k]) < 1e-9);
            continue;
        }
        std::vector<double> other = test::by_ida(system, kStop);
        if (other.empty()) continue;
        ++compared;
        for (QuantityId q = 0; q < other.size(); ++q) {
            const std::string& path = system.data().model->form.flat().quantities[q].path;
            INFO(path << ": " << rec[path].final() << " against " << other[q]);
            CHECK(std::abs(rec[path].final() - other[q]) < 2e-6 * (1 + std::abs(other[q])));
        }
    }
    CHECK(compared > n / 2);
    if (n >= 200) CHECK(tied > n / 10);
}

TEST_SUITE_END();
