// SPDX-License-Identifier: Apache-2.0
// Every component with all its ports joined, and with each of them left open in turn: it runs, or the port is named.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <regex>

#include "support/support.hpp"

using namespace netloop;
using nlohmann::json;

namespace {

struct Tried {
    std::string kind, part;
    json ports, inputs;
    std::string example;
};

// What a port of a domain is joined to: something that stores, and a source behind it. `k` tells the ports apart.
std::string terminal(const std::string& domain, const std::string& fluid, std::size_t k, const std::string& port)
{
    if (domain == "hydraulic")
        return fmt::format(
            "part v{0} : Volume ; part o{0} : Orifice(diameter = 5 mm) ; part s{0} : Tank(oil = {3}, pressure = {1} bar)\n {2} -- v{0}.a -- o{0}.inlet ; "
            "o{0}.outlet -- s{0}.outlet\n",
            k, 20 + 7 * k, port, fluid);
    if (domain == "gas")
        return fmt::format(
            "part v{0} : GasTank(volume = 2 L) ; part o{0} : Restriction(area = 5 mm^2) ; part s{0} : GasReservoir(medium = {3}, pressure = {1} bar)\n"
            " {2} -- v{0}.inlet -- o{0}.inlet ; o{0}.outlet -- s{0}.outlet ; guess v{0}.p = {1} bar\n",
            k, 2 + 0.02 * static_cast<double>(k), port, fluid);
    if (domain == "translational") return fmt::format("part m{0} : Mass(mass = {1} kg)\n {2} -- m{0}.point\n", k, 3 + k, port);
    if (domain == "rotational") return fmt::format("part j{0} : Inertia(inertia = {1} kg*m^2)\n {2} -- j{0}.shaft\n", k, 1 + k, port);
    if (domain == "thermal") return fmt::format("part h{0} : HeatMass(capacity = {1} kJ/K)\n {2} -- h{0}.surface\n", k, 5 + k, port);
    if (domain == "planar") return fmt::format("part b{0} : Bar(mass = {1} kg)\n {2} -- b{0}.a ; guess b{0}.angle = {3} deg\n", k, 2 + k, port, 20 + 30 * k);
    // the first pin is fed
    return fmt::format(
        "part r{0} : Resistor(resistance = {1} ohm) ; part u{0} : VoltageSource(voltage = {3} V) ; part g{0} : Ground\n {2} -- r{0}.plus ; r{0}.minus -- "
        "u{0}.plus ; u{0}.minus -- g{0}.pin\n",
        k, 0.1 + 0.01 * static_cast<double>(k), port, k == 0 ? 48 : 0);
}

std::string system_of(const Tried& t, const std::string& open)
{
    static const std::regex kPort(R"((\w+)(?:\((\w+)\))?.*)");
    std::string body = t.example + "\n";
    std::string fluids;
    std::size_t k = 0;
    for (const json& p : t.ports) {
        std::smatch match;
        std::string value = p["value"], name = p["name"];
        REQUIRE(std::regex_match(value, match, kPort));
        std::string fluid = match[2];
        // where the example names one, it is that
        std::smatch given;
        std::regex named(fluid.empty() ? "^$" : fluid + R"( = (\w+))");
        if (!fluid.empty() && std::regex_search(t.example, given, named)) fluid = given[1];
        if (!fluid.empty() && body.find("fluid " + fluid + " ") == std::string::npos && fluids.find("fluid " + fluid + " ") == std::string::npos)
            fluids += fmt::format(" fluid {} = {}()\n", fluid, match[1] == "gas" ? "DryAir" : "MineralOil");
        if (name != open) body += " " + terminal(match[1], fluid, k, t.part + "." + name);
        ++k;
    }
    for (const json& i : t.inputs) {
        std::string name = i["name"], unit = i["unit"];
        bool given = std::regex_search(t.example, std::regex("\\b" + name + " *="));
        if (i["value"] == "" && !given && unit != "bool") body += fmt::format(" {}.{} = 0.3{}\n", t.part, name, unit == "1" ? "" : " " + unit);
    }
    return "use mechanics, electrics, heat, hydraulics, gases, fluids, control, machines\nsystem S {\n" + fluids + " " + body + "}\n";
}

// "" if it runs for a twentieth of a second, verified; else what is said.
std::string said(const std::string& text)
{
    Library library = Library::standard();
    try {
        library.load_text("open.loop", text);
        Run run(compile(library, {}));
        RunOptions options;
        options.stop = 0.05;
        options.verify = true;
        run.simulate(options);
        if (!run.summary().verification.holds) return "not verified: " + run.summary().verification.text();
    } catch (const ModelError& e) {
        return e.what();
    } catch (const RunError& e) {
        return e.what();
    }
    return "";
}

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("every component works with each of its ports left open in turn, or is refused with the name of the port")
{
    std::size_t components = 0, open_ports = 0, refused = 0;
    Library library = Library::standard();
    for (const std::string& package : library.packages())
        for (const Library::Entry& e : library.list(package)) {
            if (e.kind != "component") continue;
            json page = json::parse(library.describe(e.name, Library::Form::json));
            Tried t{e.name, "", page["sections"].value("ports", json::array()), page["sections"].value("inputs", json::array()), page["example"]};
            if (t.ports.empty()) continue;
            std::smatch part;
            REQUIRE(std::regex_search(t.example, part, std::regex(R"(part +(\w+) *:)")));
            t.part = part[1];
            ++components;
            for (const json& p : t.ports) {
                std::string name = p["name"], path = t.part + "." + name, words = said(system_of(t, name));
                INFO(e.name << " with '" << name << "' open: " << words);
                bool good = words.empty() || words.find(path) != std::string::npos;
                CHECK(good);
                ++open_ports;
                refused += words.empty() ? 0 : 1;
            }
        }
    CHECK(components > 100);
    CHECK(open_ports > 280);
    MESSAGE(components << " components, " << open_ports << " open ports, " << refused << " refused");
}

TEST_SUITE_END();
