// SPDX-License-Identifier: Apache-2.0
// Systems and components made by a program: the same definitions that a file makes.
#pragma once

#include <initializer_list>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "netloop/library.hpp"
#include "netloop/quantity.hpp"

namespace netloop {

struct ExpressionNode;
struct BuilderState;

/// An expression of a component or system being built: combine them with + - * / and functions. Values that may be copied and shared, between threads
/// too; what an expression is made of goes away with the last expression or builder that holds it. Sums and products may be of any length (a part of one that
/// is kept as an expression of its own counts as nested); nested in each other expressions may be 200 deep, as in a text: the builder that is given a deeper
/// one throws UsageError.
class Expression {
public:
    /// A number without a unit; a number with one. Throws UsageError for a unit that there is not.
    Expression(double bare);
    Expression(const Quantity& quantity);

private:
    explicit Expression(std::shared_ptr<const ExpressionNode> node) : node_(std::move(node)) {}
    std::shared_ptr<const ExpressionNode> node_;
    friend struct ExpressionAccess;
};

/// `left == right`, for ComponentBuilder::equation.
struct ExpressionEquation {
    Expression left, right;
};

/// As in a text; units are checked when the system is compiled.
Expression operator+(const Expression& a, const Expression& b);
Expression operator-(const Expression& a, const Expression& b);
Expression operator*(const Expression& a, const Expression& b);
Expression operator/(const Expression& a, const Expression& b);
Expression operator-(const Expression& a);
ExpressionEquation operator==(const Expression& left, const Expression& right);
/// dx/dt
Expression rate(const Expression& x);
/// A function known everywhere (docs/language.md), or one of the library: call("sqrt", {x}).
Expression call(const std::string& function, const std::vector<Expression>& arguments);
/// `if condition then a else b`; the condition is less(a, b).
Expression choose(const Expression& condition, const Expression& a, const Expression& b);
Expression less(const Expression& a, const Expression& b);
/// Time in s.
Expression time();

/// What a part is given: a quantity, an expression, or the name of a fluid of the system.
struct PartValue {
    /// The value of the param, option or fluid of this name.
    PartValue(std::string p, Quantity v) : path(std::move(p)), value(v) {}
    PartValue(std::string p, double v) : path(std::move(p)), value(v) {}
    PartValue(std::string p, Expression v) : path(std::move(p)), value(v) {}
    std::string path;
    Expression value;
};

/// A part of a system being built; `part["inlet"]` is a port or quantity of it, deeper ones by dots: `part["inlet.p"]`.
class PartHandle {
public:
    /// The part or port of this path.
    PartHandle(std::string path) : path_(std::move(path)) {}
    /// A member by its name or path. Throws UsageError for a text that is no path; whether there is such a member is looked at when the system is compiled.
    Expression operator[](const std::string& member) const;
    const std::string& path() const { return path_; }

private:
    std::string path_;
};

/// Builds a system.
///
///     nl::SystemBuilder drive("Drive", library);
///     drive.fluid("oil", "fluids.MineralOil", {{"grade", nl::q(46, "cSt")}});
///     auto tank = drive.part("tank", "hydraulics.Tank", {{"oil", drive.ref("oil")}});
///     auto pump = drive.part("pump", "hydraulics.FixedPump", {{"displacement", nl::q(16, "cm^3/rev")}});
///     drive.join({tank["port"], pump["inlet"]});
class SystemBuilder {
public:
    /// Definitions are looked up in `library`, with the shipped libraries and all files that it has loaded in sight.
    SystemBuilder(const std::string& name, Library library);

    /// Declares a fluid of a kind, such as "fluids.MineralOil". Throws UsageError for a kind that is no path; all else of a builder is told by compile().
    void fluid(const std::string& name, const std::string& kind, const std::vector<PartValue>& values = {});
    /// Declares a part of a kind, such as "hydraulics.Volume".
    PartHandle part(const std::string& name, const std::string& kind, const std::vector<PartValue>& values = {});
    /// Joins ports of one domain.
    void join(const std::vector<Expression>& ports);
    /// Feeds an input from any expression (a signal).
    void feed(const Expression& source, const Expression& input);
    /// An input of the system itself, set from outside while it runs.
    Expression input(const std::string& name, const std::string& unit, const Quantity& value);
    /// A param of the system itself.
    Expression param(const std::string& name, const std::string& unit, const Quantity& value);
    /// An equation, a start value, and where the search for a start begins.
    void equation(const ExpressionEquation& equation);
    void init(const Expression& left, const Expression& right);
    void guess(const Expression& target, const Expression& value);
    /// Anything in sight by path: "pump.outlet.p". Throws UsageError for a text that is no path.
    Expression ref(const std::string& path) const;

    /// As given to the constructor.
    const std::string& name() const;
    const Library& library() const;

private:
    std::shared_ptr<BuilderState> state_;
    friend struct BuilderAccess;
};

/// Builds a component and adds it to the library with define().
///
///     nl::ComponentBuilder leak("Leak", library);
///     auto a = leak.port("a", "hydraulics.hydraulic", "oil");
///     auto b = leak.port("b", "hydraulics.hydraulic", "oil");
///     auto g = leak.param("conductance", "kg/(s*Pa)", nl::q(1e-9, "kg/(s*Pa)"));
///     leak.equation(a["m"] == g * (a["p"] - b["p"]));
///     leak.equation(a["m"] + b["m"] == 0);
///     leak.define();
class ComponentBuilder {
public:
    /// It becomes a definition of `library` with define().
    ComponentBuilder(const std::string& name, Library library);

    /// A port of a domain, such as "hydraulics.hydraulic", with the name of the fluid in it if the domain has one.
    PartHandle port(const std::string& name, const std::string& domain, const std::string& fluid = "");
    /// A param; without a value whoever uses the component must give one.
    Expression param(const std::string& name, const std::string& unit);
    Expression param(const std::string& name, const std::string& unit, const Quantity& value);
    Expression param(const std::string& name, const std::string& unit, const Quantity& value, const Quantity& low, const Quantity& high);
    /// An unknown, an input and an output, in a unit ("1" for none).
    Expression var(const std::string& name, const std::string& unit);
    Expression input(const std::string& name, const std::string& unit);
    Expression output(const std::string& name, const std::string& unit);
    /// A named expression.
    Expression let(const std::string& name, const Expression& value);
    /// An equation, a start value, and where the search for a start begins.
    void equation(const ExpressionEquation& equation);
    void init(const Expression& left, const Expression& right);
    void guess(const Expression& target, const Expression& value);
    /// The `##` text of the definition.
    void doc(const std::string& text);
    /// Adds it to the library. Throws ModelError if the name is taken.
    void define();

private:
    std::shared_ptr<BuilderState> state_;
};

}  // namespace netloop
