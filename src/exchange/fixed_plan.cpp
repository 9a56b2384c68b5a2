// SPDX-License-Identifier: Apache-2.0
#include "exchange/fixed_plan.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <map>

#include "evaluate/prune.hpp"
#include "exchange/fixed_machine.hpp"
#include "exchange/fixed_slopes.hpp"
#include "linear/elimination_writer.hpp"
#include "linear/sparse_lu.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

constexpr std::uint32_t kNone = FixedPlan::kNone;
constexpr std::size_t kMostOperations = 2'000'000;  // of one elimination: far beyond what a step may take

// A sparse matrix in the making: entries come in any order.
struct Matrix {
    SparsePattern pattern;
    std::vector<std::uint32_t> places;
    std::map<std::pair<std::uint32_t, std::uint32_t>, std::uint32_t> at;  // column and row -> place

    void put(std::uint32_t row, std::uint32_t column, std::uint32_t place) { at.emplace(std::pair{column, row}, place); }
    void close(std::uint32_t n)
    {
        pattern = {};
        pattern.n_columns = n;
        for (const auto& [key, place] : at) {
            while (pattern.starts.size() <= key.first) pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
            pattern.rows.push_back(key.second);
            places.push_back(place);
        }
        while (pattern.starts.size() <= n) pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
    }
};

// What a value is of states, where it is a sum of them with factors that params give: the factors by state, and the rest. Nothing of states alone gives an
// empty sum.
class StateSum {
public:
    StateSum(const Evaluation& e, NodeId root) : e_(e)
    {
        const Graph& g = e.model().form.reduced.system.graph();
        for (NodeId id : g.reachable({root})) terms_[id] = term(g, id);
        good_ = terms_.at(root).good;
        factors_ = terms_.at(root).factors;
    }
    bool good() const { return good_ && !factors_.empty(); }
    const std::map<std::uint32_t, double>& factors() const { return factors_; }

private:
    struct Term {
        bool good = false;
        double value = 0;  ///< without states
        std::map<std::uint32_t, double> factors;
    };
    Term term(const Graph& g, NodeId id)
    {
        const Node& n = g[id];
        Term t;
        t.good = true;
        auto sum = [&](const Term& a, double x, const Term& b, double y) {
            t.good = a.good && b.good;
            t.value = x * a.value + y * b.value;
            for (const auto& [state, f] : a.factors) t.factors[state] += x * f;
            for (const auto& [state, f] : b.factors) t.factors[state] += y * f;
        };
        switch (n.op) {
            case Op::constant:
                t.value = g.value(id);
                return t;
            case Op::parameter:
                t.value = e_.parameter(n.a);
                return t;
            case Op::unknown:
                t.good = e_.is_state(n.a);
                t.factors[n.a] = 1;
                return t;
            case Op::add:
                sum(terms_.at(n.a), 1, terms_.at(n.b), 1);
                return t;
            case Op::sub:
                sum(terms_.at(n.a), 1, terms_.at(n.b), -1);
                return t;
            case Op::neg:
                sum(terms_.at(n.a), -1, {true, 0, {}}, 0);
                return t;
            case Op::mul: {
                const Term &a = terms_.at(n.a), &b = terms_.at(n.b);
                if (a.factors.empty())
                    sum(b, a.value, {a.good, 0, {}}, 0);
                else
                    sum(a, b.value, {b.good && b.factors.empty(), 0, {}}, 0);
                return t;
            }
            case Op::div: {
                const Term &a = terms_.at(n.a), &b = terms_.at(n.b);
                sum(a, 1 / b.value, {b.good && b.factors.empty() && b.value != 0, 0, {}}, 0);
                return t;
            }
            default:
                t.good = false;
                return t;
        }
    }

    const Evaluation& e_;
    std::map<NodeId, Term> terms_;
    bool good_ = false;
    std::map<std::uint32_t, double> factors_;
};

class PlanMaker {
public:
    PlanMaker(Evaluation& e, const State& begun, const std::vector<TakenRow>& taken, const FixedPlanRequest& request, const SourceSet& sources,
              const std::vector<SampledJacobian>& samples)
        : e_(e),
          samples_(samples),
          m_(e.model()),
          begun_(begun),
          taken_(taken),
          sources_(sources),
          plan_(std::make_shared<FixedPlan>()),
          n_(static_cast<std::uint32_t>(m_.n()))
    {
        plan_->model = e.shared_model();
        plan_->request = request;
    }

    std::shared_ptr<const FixedPlan> make()
    {
        FixedPlan& p = *plan_;
        std::vector<std::string> hinders = hindrances(e_, sources_);
        if (e_.units() != nullptr) hinders.emplace_back("a part of it is a unit from elsewhere, which says nothing of how long it takes");
        if (!hinders.empty())
            throw NumericFailure("fixed-step", fmt::format("this model cannot go on in fixed steps of bounded work\n      {}", fmt::join(hinders, "\n      ")));
        if (!(p.request.step > 0) || !std::isfinite(p.request.step))
            throw NumericFailure("fixed-step", fmt::format("a step of {:g} s: it must be longer than 0 s", p.request.step));
        bool implicit = p.request.method == FixedMethod::linear_euler || p.request.method == FixedMethod::implicit_euler;
        p.correct = p.request.correct || !implicit;
        p.turns = p.request.turns > 0                               ? p.request.turns
                  : p.request.method == FixedMethod::linear_euler   ? 1
                  : p.request.method == FixedMethod::implicit_euler ? 3
                                                                    : 2;
        p.start_time = begun_.time;
        next_ = m_.layout.size;
        p.constants = m_.literals;
        one_ = constant(1);
        take_start();
        p.is_state.resize(n_);
        for (std::uint32_t i = 0; i < n_; ++i) p.is_state[i] = e_.is_state(i) ? 1 : 0;
        take_links();
        if (implicit) make_turn(1 / p.request.step);
        if (p.request.method == FixedMethod::rosenbrock) make_stages();
        if (p.correct || p.request.rest) make_rest();
        take_events();
        make_start();
        p.outputs = pruned(m_.outputs, output_places());
        if (p.request.slopes) make_slopes();
        p.size = next_;
        prepare_all();
        return plan_;
    }

private:
    std::uint32_t constant(double value)
    {
        auto [it, fresh] = constant_.try_emplace(value, next_);
        if (fresh) plan_->constants.emplace_back(next_++, value);
        return it->second;
    }
    // Operations behind the programs that were taken over, into a stretch of straight code.
    EmitOperation into(Kernel& kernel)
    {
        return [this, &kernel](Op op, std::uint32_t a, std::uint32_t b) {
            kernel.code.push_back({op, 0, next_, a, b, 0});
            return next_++;
        };
    }
    static void append(Program& to, const Program& from) { to.kernels.insert(to.kernels.end(), from.kernels.begin(), from.kernels.end()); }

    void take_start()
    {
        FixedPlan& p = *plan_;
        const FlatModel& flat = m_.form.flat();
        p.z = begun_.z;
        p.rates = begun_.rates;
        for (std::size_t i = 0; i < m_.form.conditions.size(); ++i) p.modes.push_back(e_.mode(i));
        for (std::size_t i = 0; i < m_.form.events.memories.size(); ++i) p.memories.push_back(e_.memory(i));
        for (ParameterId k = 0; k < flat.parameters.size(); ++k) {
            p.params.push_back(e_.parameter(k));
            p.given.push_back(e_.is_given(k) || flat.parameters[k].external ? 1 : 0);
        }
        p.parameters = m_.parameters;
        p.prologue = m_.prologue;
    }

    // The links of a choice of states, as the choice stands: entries of 1 and -1, and residuals that are differences.
    void take_links()
    {
        link_by_z_.assign(m_.pattern.n_entries(), 0.0);
        link_by_rate_.assign(m_.pattern.n_entries(), 0.0);
        e_.selection().jacobian(link_by_z_, link_by_rate_);
    }
    std::uint32_t by_z(std::size_t k) { return link_by_z_[k] != 0 ? constant(link_by_z_[k]) : m_.by_z[k]; }
    std::uint32_t by_rate(std::size_t k) { return link_by_rate_[k] != 0 ? constant(link_by_rate_[k]) : m_.by_rate[k]; }

    // The places of the residuals; those of the links are worked out behind the program.
    std::vector<std::uint32_t> residuals(Program& to)
    {
        std::vector<std::uint32_t> places = m_.residual.results;
        std::vector<std::uint32_t> rate(n_, kNone), derivative(n_, kNone);
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(m_.pattern.starts[c]); k < static_cast<std::size_t>(m_.pattern.starts[c + 1]); ++k) {
                auto r = static_cast<std::size_t>(m_.pattern.rows[k]);
                if (link_by_rate_[k] != 0) rate[r] = m_.layout.rates + c;
                if (link_by_z_[k] != 0) derivative[r] = m_.layout.z + c;
            }
        std::vector<std::uint32_t> computed;
        for (std::uint32_t r = 0; r < n_; ++r)
            if (rate[r] == kNone) computed.push_back(places[r]);
        append(to, pruned(m_.residual, computed));
        Kernel links;
        for (std::uint32_t r = 0; r < n_; ++r)
            if (rate[r] != kNone) places[r] = into(links)(Op::sub, rate[r], derivative[r]);
        if (!links.code.empty()) to.kernels.push_back(std::move(links));
        return places;
    }

    void jacobian(Program& to, bool z, bool rates)
    {
        std::vector<std::uint32_t> wanted;
        for (std::size_t k = 0; k < m_.pattern.n_entries(); ++k) {
            if (z && m_.by_z[k] != kNoNode) wanted.push_back(m_.by_z[k]);
            if (rates && m_.by_rate[k] != kNoNode) wanted.push_back(m_.by_rate[k]);
        }
        append(to, pruned(m_.jacobian, wanted));
    }

    // How well an order of elimination does for a matrix: its smallest pivot, of the largest entry of the pivot's row. 0: not at all.
    static double quality(const SparsePattern& pattern, const std::vector<double>& values, const std::vector<std::int64_t>& rows,
                          const std::vector<std::int64_t>& columns)
    {
        std::vector<double> memory = values, size(pattern.n_columns, 0.0);
        std::vector<std::uint32_t> entries(values.size());
        for (std::uint32_t k = 0; k < entries.size(); ++k) {
            entries[k] = k;
            double& largest = size[static_cast<std::size_t>(pattern.rows[k])];
            largest = std::max(largest, std::abs(values[k]));
        }
        auto one = static_cast<std::uint32_t>(memory.size());
        memory.push_back(1);
        WrittenFactors f;
        EmitOperation emit = [&memory](Op op, std::uint32_t x, std::uint32_t y) {
            double u = memory[x], v = memory[y];
            memory.push_back(op == Op::sub ? u - v : op == Op::mul ? u * v : op == Op::div ? u / v : -u);
            return static_cast<std::uint32_t>(memory.size() - 1);
        };
        if (!write_factorisation(pattern, entries, rows, columns, one, kMostOperations, emit, f)) return 0;
        double least = HUGE_VAL;
        for (std::size_t k = 0; k < f.pivots.size(); ++k) {
            double share = std::abs(memory[f.pivots[k]]) / size[static_cast<std::size_t>(rows[k])];
            if (!(share > 0) || !std::isfinite(share)) return 0;
            least = std::min(least, share);
        }
        return least;
    }

    // What lasts of each entry through all matrices: its smallest size, with a small share of its largest one.
    static std::vector<double> lasting(const std::vector<std::vector<double>>& values, double rest)
    {
        std::vector<double> made = values[0];
        for (std::size_t k = 0; k < made.size(); ++k) {
            double least = HUGE_VAL, most = 0;
            for (const std::vector<double>& v : values)
                if (std::isfinite(v[k])) least = std::min(least, std::abs(v[k])), most = std::max(most, std::abs(v[k]));
            made[k] = std::copysign((std::isfinite(least) ? least : 0) + rest * most, values[0][k]);
        }
        return made;
    }

    // Numeric matrices of the same pattern settle the order of elimination: of the orders that suit one of them best, that which does best for the one it suits
    // least.
    WrittenFactors factor(const Matrix& matrix, const std::vector<std::vector<double>>& values, Kernel& code, const char* what)
    {
        WrittenFactors made;
        if (matrix.pattern.n_columns == 0) return made;  // everything is explicit
        std::vector<std::int64_t> rows, columns;
        double best = -1;
        std::vector<std::vector<double>> candidates = values;
        for (double rest : {0.0, 1e-9, 1e-3}) candidates.push_back(lasting(values, rest));
        for (const std::vector<double>& of : candidates) {
            if (!std::all_of(of.begin(), of.end(), [](double v) { return std::isfinite(v); })) continue;
            SparseLU lu(matrix.pattern);
            std::vector<std::int64_t> r, c;
            if (!lu.factor(of) || !lu.order(r, c)) continue;
            double worst = HUGE_VAL;
            for (const std::vector<double>& other : values) worst = std::min(worst, quality(matrix.pattern, other, r, c));
            if (worst > best) best = worst, rows = r, columns = c;
        }
        if (rows.empty())
            throw NumericFailure("fixed-step", fmt::format("the equations of {} cannot be solved at the start: there is no order of elimination", what));
        if (!write_factorisation(matrix.pattern, matrix.places, rows, columns, one_, kMostOperations, into(code), made))
            throw NumericFailure("fixed-step", fmt::format("the elimination of {} takes more than {} operations", what, kMostOperations));
        return made;
    }

    // The start, and the samples with the links of this choice of states.
    std::vector<SampledJacobian> points()
    {
        std::vector<SampledJacobian> all(1);
        e_.at(begun_.time, begun_.z.data(), begun_.rates.data());
        e_.jacobian(all[0].by_z, all[0].by_rate);
        for (const SampledJacobian& s : samples_) {
            if (s.by_z.size() != all[0].by_z.size()) continue;  // of another system
            all.push_back(s);
            for (std::size_t k = 0; k < s.by_z.size(); ++k) {
                if (m_.by_z[k] == kNoNode) all.back().by_z[k] = link_by_z_[k];
                if (m_.by_rate[k] == kNoNode) all.back().by_rate[k] = link_by_rate_[k];
            }
        }
        return all;
    }

    // dF/dz + cj dF/dz' as places and numbers.
    Matrix iteration_matrix(double cj, Kernel& code, std::vector<std::vector<double>>& values)
    {
        std::vector<SampledJacobian> at = points();
        values.assign(at.size(), {});
        std::uint32_t factor = constant(cj);
        EmitOperation emit = into(code);
        Matrix matrix;
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(m_.pattern.starts[c]); k < static_cast<std::size_t>(m_.pattern.starts[c + 1]); ++k) {
                std::uint32_t of_z = by_z(k), of_rate = by_rate(k);
                if (of_z == kNoNode && of_rate == kNoNode) continue;
                std::uint32_t place = of_z;
                if (of_rate != kNoNode) {
                    place = emit(Op::mul, factor, of_rate);
                    if (of_z != kNoNode) place = emit(Op::add, of_z, place);
                }
                matrix.put(static_cast<std::uint32_t>(m_.pattern.rows[k]), c, place);
                for (std::size_t p = 0; p < at.size(); ++p) values[p].push_back(at[p].by_z[k] + cj * at[p].by_rate[k]);
            }
        matrix.close(n_);
        return matrix;
    }

    // The largest entry of each pivot's row; of one that stands alone, 0: it must only not be zero.
    std::vector<std::uint32_t> row_sizes(const Matrix& matrix, const WrittenFactors& factors, Kernel& code)
    {
        EmitOperation emit = into(code);
        std::vector<std::uint32_t> size(matrix.pattern.n_columns, kNone), count(matrix.pattern.n_columns, 0), list;
        for (std::int64_t r : matrix.pattern.rows) ++count[static_cast<std::size_t>(r)];
        for (std::size_t k = 0; k < matrix.places.size(); ++k) {
            auto r = static_cast<std::size_t>(matrix.pattern.rows[k]);
            if (count[r] == 1) continue;
            std::uint32_t here = emit(Op::abs, matrix.places[k], 0);
            size[r] = size[r] == kNone ? here : emit(Op::max, size[r], here);
        }
        for (std::int64_t r : factors.rows) list.push_back(size[static_cast<std::size_t>(r)] == kNone ? constant(0) : size[static_cast<std::size_t>(r)]);
        return list;
    }

    void close(FixedPlan::Solve& to, std::string name, Kernel code, const WrittenFactors& factors, std::vector<std::uint32_t> sizes,
               std::vector<std::uint32_t> kept = {})
    {
        to.sizes = std::move(sizes);
        to.program.name = std::move(name);
        to.program.kernels.push_back(std::move(code));
        to.program.results = to.result;
        to.pivots = factors.pivots;
        to.program.results.insert(to.program.results.end(), to.pivots.begin(), to.pivots.end());
        to.program.results.insert(to.program.results.end(), to.sizes.begin(), to.sizes.end());
        to.program.results.insert(to.program.results.end(), kept.begin(), kept.end());
        to.n_operations = to.program.n_operations();
    }

    void make_turn(double cj)
    {
        FixedPlan::Solve& to = plan_->turn;
        std::vector<std::uint32_t> f = residuals(to.program);
        jacobian(to.program, true, true);
        Kernel code;
        std::vector<std::vector<double>> values;
        Matrix matrix = iteration_matrix(cj, code, values);
        WrittenFactors factors = factor(matrix, values, code, "a step");
        to.result = write_substitution(factors, f, into(code));
        std::vector<std::uint32_t> sizes = row_sizes(matrix, factors, code);
        close(to, "turn", std::move(code), factors, std::move(sizes));
    }

    // With z' taken as unknowns w beside z, 0 = F(t, z, w) and z' = w, and the method applied to both, a stage is one system for its part k of z:
    //   (Fz + Fw / (gamma h)) k1 = (Fw w - F(t + gamma h, z, w)) / gamma
    //   (Fz + Fw / (gamma h)) k2 = (Fw v - F(t + h, z + k1, v) + gamma Fz k1) / gamma,   v = w + (k1 / h - w) / gamma
    // and z + (1 - gamma) k1 + gamma k2 with the rates k2 / h is the step. The first stage looks at its own time instead of at a derivative by time; what that
    // changes in k1 does not reach the step, since the method is stiffly accurate.
    void make_stages()
    {
        FixedPlan& p = *plan_;
        double gamma = 1 - 1 / std::sqrt(2.0);
        std::uint32_t of_gamma = constant(gamma), over_gamma = constant(1 / gamma);
        std::vector<std::uint32_t> f = residuals(p.turn.program);
        jacobian(p.turn.program, true, true);
        Kernel code;
        EmitOperation emit = into(code);
        std::vector<std::vector<double>> values;
        Matrix matrix = iteration_matrix(1 / (gamma * p.request.step), code, values);
        WrittenFactors factors = factor(matrix, values, code, "a step");
        auto right = [&](Kernel& to, const std::vector<std::uint32_t>& residual, const std::vector<std::uint32_t>* first) {
            EmitOperation put = into(to);
            std::vector<std::uint32_t> sum(n_, kNone);
            auto add = [&](std::size_t row, std::uint32_t term) { sum[row] = sum[row] == kNone ? term : put(Op::add, sum[row], term); };
            for (std::uint32_t c = 0; c < n_; ++c)
                for (auto k = static_cast<std::size_t>(m_.pattern.starts[c]); k < static_cast<std::size_t>(m_.pattern.starts[c + 1]); ++k) {
                    auto row = static_cast<std::size_t>(m_.pattern.rows[k]);
                    if (std::uint32_t place = by_rate(k); place != kNoNode) add(row, put(Op::mul, place, m_.layout.rates + c));
                    if (std::uint32_t place = by_z(k); place != kNoNode && first != nullptr) add(row, put(Op::mul, of_gamma, put(Op::mul, place, (*first)[c])));
                }
            for (std::uint32_t r = 0; r < n_; ++r)
                sum[r] = put(Op::mul, sum[r] == kNone ? put(Op::neg, residual[r], 0) : put(Op::sub, sum[r], residual[r]), over_gamma);
            return sum;
        };
        std::vector<std::uint32_t> b = right(code, f, nullptr);
        p.turn.result = write_substitution(factors, b, emit);
        std::vector<std::uint32_t> sizes = row_sizes(matrix, factors, code);
        std::vector<std::uint32_t> kept = factors.places();
        for (std::size_t k = 0; k < m_.pattern.n_entries(); ++k) {
            if (m_.by_z[k] != kNoNode) kept.push_back(m_.by_z[k]);
            if (m_.by_rate[k] != kNoNode) kept.push_back(m_.by_rate[k]);
        }
        close(p.turn, "turn", std::move(code), factors, std::move(sizes), std::move(kept));

        std::vector<std::uint32_t> g = residuals(p.second.program);
        Kernel behind;
        std::vector<std::uint32_t> b2 = right(behind, g, &p.turn.result);
        p.second.result = write_substitution(factors, b2, into(behind));
        WrittenFactors none;
        close(p.second, "second_stage", std::move(behind), none, {});
    }

    // Places of derivatives by equation and by the place of what they are by.
    using Derivatives = std::map<std::pair<std::uint32_t, std::uint32_t>, std::uint32_t>;

    // dF by what is no state: rates of states, the other members of z themselves. `wanted`: its places in the Jacobian; or from derivatives of one's own.
    Matrix rest_matrix(std::vector<std::vector<double>>& values, std::vector<std::uint32_t>& wanted, const Derivatives* own = nullptr)
    {
        FixedPlan& p = *plan_;
        std::vector<SampledJacobian> at = points();
        values.assign(at.size(), {});
        Matrix matrix;
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(m_.pattern.starts[c]); k < static_cast<std::size_t>(m_.pattern.starts[c + 1]); ++k) {
                std::uint32_t place = p.is_state[c] != 0 ? by_rate(k) : by_z(k);
                if (place == kNoNode) continue;
                auto row = static_cast<std::uint32_t>(m_.pattern.rows[k]);
                bool link = p.is_state[c] != 0 ? link_by_rate_[k] != 0 : link_by_z_[k] != 0;
                if (!link && own != nullptr) {
                    auto found = own->find({row, (p.is_state[c] != 0 ? m_.layout.rates : m_.layout.z) + c});
                    if (found == own->end()) continue;
                    place = found->second;
                }
                matrix.put(row, c, place);
                for (std::size_t i = 0; i < at.size(); ++i) values[i].push_back(p.is_state[c] != 0 ? at[i].by_rate[k] : at[i].by_z[k]);
                if (!link) wanted.push_back(place);
            }
        matrix.close(n_);
        return matrix;
    }

    void make_rest()
    {
        FixedPlan& p = *plan_;
        std::vector<std::vector<double>> values;
        std::vector<std::uint32_t> wanted;
        Matrix matrix = rest_matrix(values, wanted);
        std::vector<std::uint32_t> f = residuals(p.rest.program);
        append(p.rest.program, pruned(m_.jacobian, wanted));
        Kernel code;
        WrittenFactors factors = factor(matrix, values, code, "what is no state");
        p.rest.result = write_substitution(factors, f, into(code));
        std::vector<std::uint32_t> sizes = row_sizes(matrix, factors, code);
        close(p.rest, "rest", std::move(code), factors, std::move(sizes), p.request.slopes ? factors.places() : std::vector<std::uint32_t>{});
        p.solves_rest = true;
        if (!p.request.slopes) return;
        std::vector<std::uint32_t> g = residuals(p.again.program);
        Kernel behind;
        p.again.result = write_substitution(factors, g, into(behind));
        close(p.again, "rest_again", std::move(behind), {}, {});
    }

    // By the theorem of implicit functions: what is no state moves by -(dF/drest)^-1 (dF/dstates dstates + dF/dparams dparams).
    void make_slopes()
    {
        FixedPlan& p = *plan_;
        FixedPlan::Slopes& to = p.slopes;
        LoweredSlopes lowered = lower_slopes(p, next_);
        next_ = lowered.next;
        to.graph = lowered.graph;
        to.params = std::move(lowered.params);
        to.rows = std::move(lowered.rows);
        to.outputs = std::move(lowered.outputs);
        to.conditions = std::move(lowered.conditions);
        p.constants.insert(p.constants.end(), lowered.literals.begin(), lowered.literals.end());
        append(p.prologue, lowered.prologue);
        p.prologue.results.insert(p.prologue.results.end(), lowered.prologue.results.begin(), lowered.prologue.results.end());

        Derivatives own;
        for (const FixedPlan::Slopes::Entry& e : lowered.matrix) own[{e.of, e.by}] = e.place;
        std::vector<std::vector<double>> values;
        std::vector<std::uint32_t> wanted;
        Matrix matrix = rest_matrix(values, wanted, &own);
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(m_.pattern.starts[c]); p.is_state[c] != 0 && k < static_cast<std::size_t>(m_.pattern.starts[c + 1]); ++k)
                if (link_by_z_[k] != 0) to.rows.push_back({static_cast<std::uint32_t>(m_.pattern.rows[k]), m_.layout.z + c, constant(link_by_z_[k])});
        append(to.program, lowered.program);
        Kernel code;
        WrittenFactors factors = factor(matrix, values, code, "what is no state");
        to.program.kernels.push_back(std::move(code));
        to.program.name = "slopes";
        to.program.results = factors.places();
        for (const auto* list : {&to.params, &to.rows, &to.outputs, &to.conditions})
            for (const FixedPlan::Slopes::Entry& e : *list) to.program.results.push_back(e.place);
        for (std::uint32_t r = 0; r < n_; ++r) to.side.push_back(next_++);
        Kernel behind;
        to.result = write_substitution(factors, to.side, into(behind));
        to.substitution.kernels.push_back(std::move(behind));
        to.substitution.name = "slopes_substitution";
        to.substitution.results = to.result;
    }

    void take_events()
    {
        FixedPlan& p = *plan_;
        const EventPrograms& events = m_.events;
        const FlatEvents& flat = m_.form.events;
        std::vector<std::uint32_t> wanted;
        for (std::uint32_t i = 0; i < m_.form.conditions.size(); ++i) {
            if (events.idle[i] != 0) continue;
            p.condition.push_back({i, m_.conditions.results[i], m_.form.conditions[i].kind});
            wanted.push_back(m_.conditions.results[i]);
        }
        p.conditions = pruned(m_.conditions, wanted);
        p.conditions.name = "conditions";
        wanted.clear();
        for (std::uint32_t b = 0; b < flat.blocks.size(); ++b) {
            const FlatBlock& from = flat.blocks[b];
            const EventPrograms::Block& of = events.blocks[b];
            FixedPlan::Block block;
            block.kind = from.kind;
            block.number = b;
            block.guard = from.kind == FlatBlock::Kind::when || from.kind == FlatBlock::Kind::transition ? events.guard[b] : kNone;
            if (block.guard != kNone) wanted.push_back(block.guard);
            block.sequence = from.sequence, block.stage = from.stage, block.target = from.target;
            block.reads_solved = of.reads_solved;
            std::vector<std::uint32_t> values;
            for (std::size_t k = 0; k < from.settings.size(); ++k) {
                FixedPlan::Block::Setting s;
                s.value = of.settings[k].value, s.when = of.settings[k].when;
                s.memory = from.settings[k].memory == FlatSetting::kNone ? kNone : from.settings[k].memory;
                s.state = of.settings[k].state, s.sign = of.settings[k].sign;
                if (s.memory == kNone && (s.state == kNone || p.is_state[s.state] == 0)) demand(from.settings[k], of.settings[k], s);
                if (s.target != kNone) values.push_back(s.target);
                block.settings.push_back(s);
                values.push_back(s.value);
                if (s.when != kNone) values.push_back(s.when);
            }
            for (std::size_t k = 0; k < from.alerts.size(); ++k) {
                block.alerts.push_back({of.alerts[k], from.alerts[k].action, from.alerts[k].text});
                if (of.alerts[k] != kNone) values.push_back(of.alerts[k]);
            }
            block.program = pruned(events.actions, values);
            block.program.name = fmt::format("block_{}", b);
            p.blocks.push_back(std::move(block));
        }
        p.guards = pruned(events.guards, wanted);
        p.guards.name = "guards";
        for (std::uint32_t s = 0; s < flat.sequences.size(); ++s) {
            FixedPlan::Sequence sequence{flat.sequences[s].stage, flat.sequences[s].since, {}, {}};
            sequence.transitions.resize(flat.sequences[s].stages.size());
            for (std::uint32_t b = 0; b < p.blocks.size(); ++b) {
                if (p.blocks[b].sequence != s) continue;
                if (p.blocks[b].kind == FlatBlock::Kind::transition) sequence.transitions[p.blocks[b].stage].push_back(b);
                if (p.blocks[b].kind == FlatBlock::Kind::entry) sequence.entries.push_back(b);
            }
            p.sequences.push_back(std::move(sequence));
        }
        for (std::uint32_t b = 0; b < p.blocks.size(); ++b)
            if (p.blocks[b].kind == FlatBlock::Kind::when) p.whens.push_back(b);
        p.periods = events.periods;
        p.periods.name = "periods";
        for (const EventPrograms::Every& t : events.every) p.every.push_back({t.block, t.period, t.first});
        p.previous = events.previous;
        p.previous.name = "previous";
        p.previous_of = events.previous_of;
        p.starts = events.starts;
        p.starts.name = "starts";
        p.start_of = events.start_of;
        p.delays = events.delays;
        p.delays.name = "delays";
        if (!events.delay_of.empty()) e_.work_out(events.delays);
        for (const EventPrograms::Delay& d : events.delay_of) {
            double room = std::ceil(e_.value_at(d.time) / p.request.step) + 3;
            constexpr double kMostRoom = 1e7;
            if (!(room < kMostRoom))
                throw NumericFailure("fixed-step", fmt::format("a delay of {:g} s takes {:g} values at this step", e_.value_at(d.time), room),
                                     "take a longer step");
            p.delay.push_back({d.memory, d.source, d.time, static_cast<std::uint32_t>(room)});
        }
    }

    // A sum of states that is set: the nearest states, in their usual sizes; positions stay where speeds can do it.
    void demand(const FlatSetting& setting, const EventPrograms::Setting& of, FixedPlan::Block::Setting& to)
    {
        StateSum sum(e_, setting.target);
        std::uint32_t highest = 0;
        for (const auto& [state, factor] : sum.factors()) highest = std::max(highest, m_.form.z[state].variable.order);
        std::uint32_t least = std::min(setting.order, highest);
        to.state = kNone;
        to.target = of.target;
        for (const auto& [state, factor] : sum.factors())
            if (m_.form.z[state].variable.order >= least && factor != 0) to.parts.push_back({state, factor, m_.form.z[state].usual});
    }

    // The start as it was solved, as one square system for z and the rates of its states.
    void make_start()
    {
        FixedPlan& p = *plan_;
        std::vector<std::uint32_t> rate_column(n_, kNone);
        auto columns = n_;
        for (std::uint32_t i = 0; i < n_; ++i) {
            if (m_.form.z[i].kind != ZEntry::Kind::state) continue;
            rate_column[i] = columns++;
            p.start_rates.push_back(i);
        }
        if (taken_.size() != columns) return;  // not to be had: other params than those of the reference have no start here
        std::vector<double> z, rates, values;
        e_.at(begun_.time, begun_.z.data(), begun_.rates.data());
        e_.jacobian(z, rates);
        e_.start();
        std::vector<std::vector<std::size_t>> of_row(n_);
        std::vector<std::uint32_t> column_of(m_.pattern.n_entries());
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(m_.pattern.starts[c]); k < static_cast<std::size_t>(m_.pattern.starts[c + 1]); ++k) {
                of_row[static_cast<std::size_t>(m_.pattern.rows[k])].push_back(k);
                column_of[k] = c;
            }
        std::map<std::pair<std::uint32_t, std::uint32_t>, double> numbers;
        Matrix matrix;
        std::vector<std::uint32_t> right(columns), from_start, from_jacobian, from_residual;
        std::uint32_t zero = constant(0);
        bool stands = true;
        for (std::uint32_t r = 0; r < columns; ++r) {
            const TakenRow& row = taken_[r];
            auto put = [&](std::uint32_t column, std::uint32_t place, double value) {
                if (column == kNone) {
                    stands = false;
                    return;
                }
                matrix.put(r, column, place);
                numbers[{column, r}] = value;
            };
            switch (row.kind) {
                case TakenRow::Kind::model:
                    right[r] = m_.residual.results[row.index];
                    from_residual.push_back(right[r]);
                    for (std::size_t k : of_row[row.index]) {
                        if (m_.by_z[k] != kNoNode) put(column_of[k], m_.by_z[k], z[k]), from_jacobian.push_back(m_.by_z[k]);
                        if (m_.by_rate[k] != kNoNode) put(rate_column[column_of[k]], m_.by_rate[k], rates[k]), from_jacobian.push_back(m_.by_rate[k]);
                    }
                    break;
                case TakenRow::Kind::condition:
                    right[r] = m_.start_rows[row.index].residual;
                    from_start.push_back(right[r]);
                    for (const auto& [number, place] : m_.start_rows[row.index].entries) {
                        put(number < n_ ? number : rate_column[number - n_], place, e_.value_at(place));
                        from_start.push_back(place);
                    }
                    break;
                case TakenRow::Kind::still:
                    right[r] = row.index < n_ ? m_.layout.z + row.index : m_.layout.rates + p.start_rates[row.index - n_];
                    put(row.index, one_, 1);
                    break;
                default:  // it stays where it is
                    right[r] = zero;
                    put(row.index, one_, 1);
                    break;
            }
        }
        if (!stands) return;
        matrix.close(columns);
        for (const auto& [key, value] : numbers) values.push_back(value);
        FixedPlan::Solve& to = p.start;
        append(to.program, pruned(m_.residual, from_residual));
        append(to.program, pruned(m_.start, from_start));
        append(to.program, pruned(m_.jacobian, from_jacobian));
        Kernel code;
        try {
            WrittenFactors factors = factor(matrix, {values}, code, "the start");
            to.result = write_substitution(factors, right, into(code));
            std::vector<std::uint32_t> sizes = row_sizes(matrix, factors, code);
            close(to, "start", std::move(code), factors, std::move(sizes));
        } catch (const NumericFailure&) {
            to = {};  // as above
        }
    }

    std::vector<std::uint32_t> output_places()
    {
        for (std::uint32_t i : plan_->request.outputs) plan_->output.push_back(m_.output_place[i]);
        return plan_->output;
    }

    void prepare_all()
    {
        FixedPlan& p = *plan_;
        Callables callables = p.callables();
        p.outputs.name = "observe";
        p.prologue.name = "prologue";
        for (std::size_t k = 0; k < p.parameters.size(); ++k) p.parameters[k].program.name = fmt::format("params_{}", k + 1);
        for (Program* program : {&p.turn.program, &p.second.program, &p.rest.program, &p.again.program, &p.start.program, &p.conditions, &p.guards, &p.periods,
                                 &p.previous, &p.starts, &p.delays, &p.outputs, &p.prologue, &p.slopes.program, &p.slopes.substitution})
            prepare(*program, callables);
        for (ParameterValues& v : p.parameters) prepare(v.program, callables);
        for (FixedPlan::Block& b : p.blocks) prepare(b.program, callables);
    }

    Evaluation& e_;
    const std::vector<SampledJacobian>& samples_;
    const CompiledModel& m_;
    const State& begun_;
    const std::vector<TakenRow>& taken_;
    const SourceSet& sources_;
    std::shared_ptr<FixedPlan> plan_;
    std::uint32_t n_ = 0, next_ = 0, one_ = 0;
    std::map<double, std::uint32_t> constant_;
    std::vector<double> link_by_z_, link_by_rate_;
};

}  // namespace

const char* method_name(FixedMethod method)
{
    switch (method) {
        case FixedMethod::euler:
            return "euler";
        case FixedMethod::rk4:
            return "rk4";
        case FixedMethod::linear_euler:
            return "linear-euler";
        case FixedMethod::implicit_euler:
            return "implicit-euler";
        default:
            return "rosenbrock";
    }
}

std::size_t FixedPlan::n_step_operations() const
{
    auto count = [](const Program& p) { return p.n_operations(); };
    std::size_t solve =
        request.method == FixedMethod::linear_euler || request.method == FixedMethod::implicit_euler ? static_cast<std::size_t>(turns) * turn.n_operations
        : request.method == FixedMethod::rosenbrock                                                  ? turn.n_operations + second.n_operations
                                                    : static_cast<std::size_t>(turns) * rest.n_operations * (request.method == FixedMethod::rk4 ? 4 : 1);
    return solve + count(conditions) + count(guards) + count(delays) + count(previous);
}

std::size_t FixedPlan::n_moment_operations() const
{
    std::size_t sum = 0;
    for (const Block& b : blocks) sum += b.program.n_operations();
    bool anything = !blocks.empty() || !condition.empty();
    return sum + (correct && anything ? static_cast<std::size_t>(turns) * rest.n_operations : 0);
}

std::vector<std::string> hindrances(const Evaluation& e, const SourceSet& sources)
{
    const CompiledModel& m = e.model();
    std::vector<std::string> list;
    const FlatModel& flat = m.form.flat();
    if (m.family != nullptr)
        list.push_back("its equations change in kind while it runs (branches that hold different equations): one system in fixed steps cannot follow");
    for (std::size_t b = 0; b < m.form.events.blocks.size(); ++b) {
        const FlatBlock& block = m.form.events.blocks[b];
        for (std::size_t k = 0; k < block.settings.size(); ++k) {
            const EventPrograms::Setting& s = m.events.blocks[b].settings[k];
            if (block.settings[k].memory != FlatSetting::kNone || (s.state != EventPrograms::kNone && e.is_state(s.state))) continue;
            if (StateSum(e, block.settings[k].target).good()) continue;
            std::string place = place_text(sources, block.origin.span), part = flat.instances[block.origin.instance];
            list.push_back(fmt::format("{}{}{}{}: '{}' sets what is no state, which takes a search for the states that move it", place,
                                       place.empty() ? "" : ": ", part, part.empty() ? "" : ":", block.text));
        }
    }
    return list;
}

std::shared_ptr<const FixedPlan> make_fixed_plan(Evaluation& evaluation, const State& begun, const std::vector<TakenRow>& taken,
                                                 const FixedPlanRequest& request, const SourceSet& sources, const std::vector<SampledJacobian>& samples)
{
    return PlanMaker(evaluation, begun, taken, request, sources, samples).make();
}

}  // namespace netloop
