// SPDX-License-Identifier: Apache-2.0
#include "analyse/modes.hpp"

#include <Spectra/GenEigsComplexShiftSolver.h>
#include <Spectra/GenEigsRealShiftSolver.h>
#include <Spectra/GenEigsSolver.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "analyse/dense.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

using Complex = std::complex<double>;

// What Spectra asks of a matrix. In terms of usual sizes: numbers of one kind of unit must not hide those of another.
class Product {
public:
    using Scalar = double;
    Product(Point& p, const Eigen::VectorXd& usual, bool transposed) : p_(p), usual_(usual), transposed_(transposed) {}
    Eigen::Index rows() const { return usual_.size(); }
    Eigen::Index cols() const { return usual_.size(); }
    void perform_op(const double* from, double* to) const
    {
        Eigen::Map<const Eigen::VectorXd> x(from, usual_.size());
        Eigen::Map<Eigen::VectorXd> y(to, usual_.size());
        if (transposed_)
            y = usual_.cwiseProduct(apply(x.cwiseQuotient(usual_)));
        else
            y = apply(x.cwiseProduct(usual_)).cwiseQuotient(usual_);
    }
    void set_shift(double shift) { shift_ = shift, inverse_ = true; }

private:
    Eigen::VectorXd apply(const Eigen::VectorXd& x) const { return inverse_ ? p_.times_shifted_inverse(shift_, x, transposed_) : p_.times_a(x, transposed_); }

    Point& p_;
    const Eigen::VectorXd& usual_;
    bool transposed_, inverse_ = false;
    double shift_ = 0;
};

struct End {
    Eigen::VectorXcd values;
    Eigen::MatrixXcd vectors;  ///< in SI
};

// The fastest eigenvalue as a short Krylov space sees it (Arnoldi 1951), and how far off that may be, as a share of it.
std::pair<Complex, double> fastest_seen(const Product& product)
{
    constexpr Eigen::Index kSpace = 100;
    Eigen::Index n = product.rows(), m = std::min(kSpace, n - 1);
    Eigen::MatrixXd q = Eigen::MatrixXd::Zero(n, m + 1), h = Eigen::MatrixXd::Zero(m + 1, m);
    for (Eigen::Index i = 0; i < n; ++i) q(i, 0) = 1 + 0.5 * std::sin(1.7 * static_cast<double>(i * i % 1009));  // in no pattern of the system
    q.col(0).normalize();
    Eigen::VectorXd next(n);
    for (Eigen::Index k = 0; k < m; ++k) {
        product.perform_op(q.col(k).data(), next.data());
        for (int twice = 0; twice < 2; ++twice) {
            Eigen::VectorXd share = q.leftCols(k + 1).transpose() * next;
            h.col(k).head(k + 1) += share;
            next -= q.leftCols(k + 1) * share;
        }
        h(k + 1, k) = next.norm();
        if (h(k + 1, k) == 0) {
            m = k + 1;
            break;
        }
        q.col(k + 1) = next / h(k + 1, k);
    }
    Eigen::EigenSolver<Eigen::MatrixXd> solver(h.topLeftCorner(m, m));
    Eigen::Index best = 0;
    for (Eigen::Index i = 1; i < m; ++i)
        if (std::abs(solver.eigenvalues()(i)) > std::abs(solver.eigenvalues()(best))) best = i;
    Complex value = solver.eigenvalues()(best);
    double off = std::abs(h(m < h.rows() ? m : m - 1, m - 1) * solver.eigenvectors()(m - 1, best)) / std::max(std::abs(value), 1e-300);
    return {value, off};
}

// What a search looks for within: the room of its subspace. Beside a shift the wanted ones stand out, and twice as many are enough; where they do not settle in
// it, and where nothing is inverted, four times as many.
Eigen::Index room_for(Eigen::Index wanted, Eigen::Index n, bool generous)
{
    return std::min(n, generous ? std::max<Eigen::Index>(4 * wanted + 20, 60) : std::max<Eigen::Index>(2 * wanted + 10, 30));
}

constexpr double kSettled = 1e-10;
constexpr int kMostRestarts = 1000, kFewRestarts = 40;

// `make(room)` gives a solver of Spectra.
template <typename Make>
End settled(const Eigen::VectorXd& usual, Eigen::Index wanted, bool transposed, Make make)
{
    for (bool generous : {false, true}) {
        auto solver = make(room_for(wanted, usual.size(), generous));
        solver.init();
        solver.compute(Spectra::SortRule::LargestMagn, generous ? kMostRestarts : kFewRestarts, kSettled);
        if (solver.info() != Spectra::CompInfo::Successful) continue;
        Eigen::MatrixXcd vectors = solver.eigenvectors();
        return {solver.eigenvalues(), (transposed ? Eigen::VectorXd(usual.cwiseInverse()) : usual).asDiagonal() * vectors};
    }
    throw NumericFailure("run-failed", "the modes near a point of the spectrum do not settle");
}

End ends_near(Point& p, const Eigen::VectorXd& usual, Eigen::Index wanted, bool transposed, double shift)
{
    Product product(p, usual, transposed);
    return settled(usual, wanted, transposed, [&](Eigen::Index room) { return Spectra::GenEigsRealShiftSolver<Product>(product, wanted, room, shift); });
}

// The modes of an end from both sides: right and left vectors.
struct BothSides {
    End right, left;
};

End largest(Point& p, const Eigen::VectorXd& usual, Eigen::Index wanted, bool transposed)
{
    Product product(p, usual, transposed);
    const Eigen::Index room = room_for(wanted, usual.size(), true);
    Spectra::GenEigsSolver<Product> solver(product, wanted, room);
    solver.init();
    solver.compute(Spectra::SortRule::LargestMagn, kMostRestarts, kSettled);
    if (solver.info() != Spectra::CompInfo::Successful) throw NumericFailure("run-failed", "the fastest modes do not settle");
    Eigen::MatrixXcd vectors = solver.eigenvectors();
    return {solver.eigenvalues(), (transposed ? Eigen::VectorXd(usual.cwiseInverse()) : usual).asDiagonal() * vectors};
}

// Where the fastest does not swing, from right beyond it: in one spot many are close to each other. Else from outside. The transposed matrix has the same
// values: the spot is looked for once.
BothSides fastest(Point& p, const Eigen::VectorXd& usual, Eigen::Index wanted)
{
    auto [seen, off] = fastest_seen(Product(p, usual, false));
    constexpr double kReal = 1e-9;
    if (std::abs(seen.imag()) <= kReal * std::abs(seen)) {
        double beyond = seen.real();
        // what a Krylov space sees lies inside; each look from beyond the last one comes closer
        for (int look = 0; look < 3; ++look) {
            const double shift = beyond * (1 + std::max(2 * off, 1e-9));
            End end = ends_near(p, usual, wanted, false, shift);
            double most = 0;
            for (Eigen::Index k = 0; k < end.values.size(); ++k)
                if (std::abs(end.values(k)) > std::abs(most)) most = end.values(k).real();
            // all on this side of the shift: it is the end
            if (std::abs(most) <= std::abs(shift)) return {end, ends_near(p, usual, wanted, true, shift)};
            beyond = most;
            off = 1e-6;
        }
    }
    return {largest(p, usual, wanted, false), largest(p, usual, wanted, true)};
}

BothSides slowest(Point& p, const Eigen::VectorXd& usual, Eigen::Index wanted)
{
    auto from = [&](double shift) { return BothSides{ends_near(p, usual, wanted, false, shift), ends_near(p, usual, wanted, true, shift)}; };
    try {
        return from(0);
    } catch (const NumericFailure&) {
        // something rests: from right beside it
        auto [seen, off] = fastest_seen(Product(p, usual, false));
        return from(1e-9 * std::abs(seen));
    }
}

// What Spectra asks of (A - shift)^-1 for a shift beside the real axis: the real part of what it makes of a real vector.
class ComplexProduct {
public:
    using Scalar = double;
    ComplexProduct(Point& p, const Eigen::VectorXd& usual, bool transposed) : p_(p), usual_(usual), transposed_(transposed) {}
    Eigen::Index rows() const { return usual_.size(); }
    Eigen::Index cols() const { return usual_.size(); }
    void set_shift(double re, double im) { shift_ = {re, im}; }
    void perform_op(const double* from, double* to) const
    {
        Eigen::Map<const Eigen::VectorXd> x(from, usual_.size());
        Eigen::Map<Eigen::VectorXd> y(to, usual_.size());
        if (transposed_)
            y = usual_.cwiseProduct(p_.times_shifted_inverse(shift_, x.cwiseQuotient(usual_), true).real());
        else
            y = p_.times_shifted_inverse(shift_, x.cwiseProduct(usual_), false).real().cwiseQuotient(usual_);
    }

private:
    Point& p_;
    const Eigen::VectorXd& usual_;
    bool transposed_;
    Complex shift_;
};

End near_complex(Point& p, const Eigen::VectorXd& usual, Eigen::Index wanted, bool transposed, Complex shift)
{
    ComplexProduct product(p, usual, transposed);
    return settled(usual, wanted, transposed,
                   [&](Eigen::Index room) { return Spectra::GenEigsComplexShiftSolver<ComplexProduct>(product, wanted, room, shift.real(), shift.imag()); });
}

// left^T A = value left^T by inverse iteration, for one that the other search has not met.
Eigen::VectorXcd left_of(Point& p, const Eigen::VectorXd& usual, Complex value)
{
    constexpr double kBeside = 1e-8;  // the matrix must not be singular
    constexpr int kTurns = 4;
    const Complex shift = value * Complex(1 + kBeside, kBeside);
    Eigen::VectorXcd v(usual.size());
    for (Eigen::Index i = 0; i < v.size(); ++i) v(i) = (1 + 0.5 * std::sin(1.7 * static_cast<double>(i * i % 1009))) / usual(i);
    for (int turn = 0; turn < kTurns; ++turn) {
        v = (p.times_shifted_inverse(shift, v.real(), true) + Complex(0, 1) * p.times_shifted_inverse(shift, v.imag(), true)).eval();
        v /= usual.cast<Complex>().cwiseProduct(v).norm();
    }
    return v;
}

// Left vectors beside the right ones that they belong to. The search from the other side may end with others at the edge of a region.
EigenSystem paired(Point& p, const Eigen::VectorXd& usual, const BothSides& sides)
{
    const auto& [right, left] = sides;
    constexpr double kSame = 1e-6;
    double most = 0;
    for (Eigen::Index k = 0; k < right.values.size(); ++k) most = std::max(most, std::abs(right.values(k)));
    EigenSystem all;
    all.values = right.values;
    all.right = right.vectors;
    all.left = right.vectors;
    for (Eigen::Index k = 0; k < all.values.size(); ++k) {
        Eigen::Index best = 0;
        for (Eigen::Index j = 1; j < left.values.size(); ++j)
            if (std::abs(left.values(j) - all.values(k)) < std::abs(left.values(best) - all.values(k))) best = j;
        const bool met = left.values.size() > 0 && std::abs(left.values(best) - all.values(k)) <= kSame * std::max(std::abs(all.values(k)), kSame * most);
        all.left.col(k) = met ? Eigen::VectorXcd(left.vectors.col(best)) : left_of(p, usual, all.values(k));
    }
    return all;
}

// What a state is called, and the part it stands in.
struct StateName {
    std::string state, part;
};

std::vector<StateName> state_names(Point& p)
{
    const FlatModel& flat = p.model().form.flat();
    std::vector<StateName> names;
    names.reserve(p.states().size());
    for (auto k : p.states()) names.push_back({p.name(k), flat.instances[flat.quantities[p.model().form.z[k].variable.quantity].origin.instance]});
    return names;
}

Mode mode_of(Point& p, Complex value, const Eigen::VectorXcd& right, const Eigen::VectorXcd& left, const Eigen::VectorXd& usual,
             const std::vector<StateName>& names, bool sensitivities)
{
    const FlatModel& flat = p.model().form.flat();
    Mode mode;
    mode.root.value = value;
    double sum = 0;
    Eigen::Index largest = 0;
    for (Eigen::Index j = 0; j < right.size(); ++j) {
        sum += std::abs(left(j) * right(j));
        if (std::abs(right(j)) / usual(j) > std::abs(right(largest)) / usual(largest)) largest = j;
    }
    std::vector<double> shares(static_cast<std::size_t>(right.size()));
    std::vector<std::size_t> order(shares.size());
    std::map<std::string_view, double> parts;
    for (std::size_t j = 0; j < shares.size(); ++j) {
        const auto at = static_cast<Eigen::Index>(j);
        shares[j] = sum > 0 ? std::abs(left(at) * right(at)) / sum : 0;
        parts[names[j].part] += shares[j];
        order[j] = j;
    }
    std::stable_sort(order.begin(), order.end(), [&](std::size_t x, std::size_t y) { return shares[x] > shares[y]; });
    mode.states.reserve(order.size());
    for (std::size_t j : order) {
        const auto at = static_cast<Eigen::Index>(j);
        Complex shape = right(largest) == 0.0 ? 0.0 : (right(at) / usual(at)) / (right(largest) / usual(largest));
        mode.states.push_back({names[j].state, names[j].part, shares[j], std::abs(shape), std::arg(shape) * 180 / std::numbers::pi});
    }
    mode.parts.reserve(parts.size());
    for (const auto& [name, share] : parts) mode.parts.push_back({std::string(name), share});
    std::stable_sort(mode.parts.begin(), mode.parts.end(), [](const auto& x, const auto& y) { return x.share > y.share; });
    if (!sensitivities) return mode;
    std::vector<Complex> slopes = p.eigenvalue_by_parameters(right, left);
    double size = std::abs(value);
    for (ParameterId q = 0; q < slopes.size(); ++q) {
        const FlatParameter& f = flat.parameters[q];
        if (slopes[q] == 0.0 || !std::isfinite(std::abs(slopes[q])) || f.boolean) continue;
        Mode::Param param{f.path, f.unit.text, p.parameter(q), slopes[q]};
        Complex change = slopes[q] * param.value * 0.01;
        if (size > 0) {
            // |l|' = re(conj(l) l') / |l|; damping = -re(l) / |l|
            double length = (std::conj(value) * change).real() / size;
            param.frequency = 100 * length / size;
            param.damping = -change.real() / size + value.real() * length / (size * size);
        }
        mode.params.push_back(std::move(param));
    }
    auto weight = [](const Mode::Param& q) { return std::hypot(q.frequency, 100 * q.damping); };
    std::stable_sort(mode.params.begin(), mode.params.end(), [&](const auto& x, const auto& y) { return weight(x) > weight(y); });
    // what rounding alone moves
    std::erase_if(mode.params, [&](const Mode::Param& q) { return weight(q) < 1e-9; });
    return mode;
}

}  // namespace

Modes modes_at(Point& point, double time, const ModesRequest& request)
{
    Modes result;
    result.time = time;
    result.n_states = point.n();
    auto n = static_cast<Eigen::Index>(point.n());
    if (n == 0) return result;
    Eigen::VectorXd usual(n);
    for (Eigen::Index j = 0; j < n; ++j) usual(j) = std::max(point.model().form.z[point.states()[static_cast<std::size_t>(j)]].usual, 1e-300);
    EigenSystem all;
    using End = ModesRequest::End;
    if (point.n() <= kMostStatesInTables) {
        all = eigen_system(point.a(), true);
    } else {
        auto wanted = static_cast<Eigen::Index>(request.count == 0 ? 10 : request.count);
        wanted = std::min(wanted, n - 2);
        std::vector<EigenSystem> ends;
        if (request.near) {
            const Complex shift = *request.near;
            auto look = [&](bool transposed) {
                // of what swings there are two of each
                return shift.imag() == 0 ? ends_near(point, usual, wanted, transposed, shift.real())
                                         : near_complex(point, usual, std::min(2 * wanted, n - 2), transposed, shift);
            };
            ends.push_back(paired(point, usual, {look(false), look(true)}));
        }
        if (!request.near && request.end != End::slowest) ends.push_back(paired(point, usual, fastest(point, usual, wanted)));
        if (!request.near && request.end != End::fastest) ends.push_back(paired(point, usual, slowest(point, usual, wanted)));
        Eigen::Index total = 0;
        for (const EigenSystem& e : ends) total += e.values.size();
        all.values.resize(total), all.right.resize(n, total), all.left.resize(n, total);
        Eigen::Index at = 0;
        for (const EigenSystem& e : ends) {
            all.values.segment(at, e.values.size()) = e.values;
            all.right.middleCols(at, e.values.size()) = e.right;
            all.left.middleCols(at, e.values.size()) = e.left;
            at += e.values.size();
        }
    }
    std::vector<Eigen::Index> order;
    for (Eigen::Index k = 0; k < all.values.size(); ++k)
        if (all.values(k).imag() >= 0) order.push_back(k);
    if (request.near) {
        auto away = [&](Eigen::Index k) { return std::abs(all.values(k) - *request.near); };
        std::stable_sort(order.begin(), order.end(), [&](Eigen::Index x, Eigen::Index y) { return away(x) < away(y); });
        order.resize(std::min(order.size(), request.count == 0 ? std::size_t{10} : request.count));
    }
    std::stable_sort(order.begin(), order.end(), [&](Eigen::Index x, Eigen::Index y) { return std::abs(all.values(x)) > std::abs(all.values(y)); });
    if (!request.near && request.count > 0 && order.size() > request.count) {
        if (request.end == End::slowest)
            order.erase(order.begin(), order.end() - static_cast<std::ptrdiff_t>(request.count));
        else if (request.end == End::fastest)
            order.resize(request.count);
        else if (order.size() > 2 * request.count)
            order.erase(order.begin() + static_cast<std::ptrdiff_t>(request.count), order.end() - static_cast<std::ptrdiff_t>(request.count));
    }
    const std::vector<StateName> names = state_names(point);
    for (Eigen::Index k : order) result.modes.push_back(mode_of(point, all.values(k), all.right.col(k), all.left.col(k), usual, names, request.sensitivities));
    return result;
}

}  // namespace netloop
