// SPDX-License-Identifier: Apache-2.0
// Random networks of the shipped libraries from a seed: circuits, chains of masses, drives, rooms and pipes, some with hidden constraints. Each is run,
// verified against its text, and, where it hides no constraint, compared with IDA on the equations as written. NETLOOP_RANDOM=100000 runs as many of them;
// NETLOOP_RANDOM_FROM sets the first seed.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <cmath>
#include <cstdlib>
#include <random>

#include "cases/plain_ida.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

struct Network {
    std::string text;
    double stop = 1;
    bool hidden = false;  ///< parts that are tied together: nothing for IDA on the plain equations
};

class Builder {
public:
    explicit Builder(unsigned seed) : random_(seed) {}

    Network network()
    {
        switch (pick(0, 4)) {
            case 0:
                circuit();
                break;
            case 1:
                masses();
                break;
            case 2:
                drive();
                break;
            case 3:
                rooms();
                break;
            default:
                pipes();
        }
        return {"use electrics, mechanics, heat, hydraulics, fluids\nsystem S {\n" + text_ + "}\n", stop_, hidden_};
    }

private:
    int pick(int low, int high) { return std::uniform_int_distribution<>(low, high)(random_); }
    double number(double low, double high) { return std::uniform_real_distribution<>(low, high)(random_); }
    bool maybe(int one_in) { return pick(1, one_in) == 1; }
    std::string part(const std::string& kind)
    {
        std::string name = fmt::format("p{}", n_++);
        text_ += fmt::format(" part {} : {}\n", name, kind);
        return name;
    }
    void join(const std::string& a, const std::string& b) { text_ += fmt::format(" {} -- {}\n", a, b); }

    // Two pins between two nodes, each node a pin that others are joined to.
    void between(const std::string& kind, const std::string& a, const std::string& b, const char* first = "plus", const char* second = "minus")
    {
        std::string p = part(kind);
        join(p + "." + first, a);
        join(p + "." + second, b);
    }

    void circuit()
    {
        stop_ = 0.02;
        std::string ground = part("Ground") + ".pin";
        std::vector<std::string> nodes;
        int n = pick(2, 4);
        for (int i = 0; i < n; ++i) {
            std::string c = part(fmt::format("Capacitor(capacitance = {:.3f} uF)", number(1, 20)));
            join(c + ".minus", ground);
            nodes.push_back(c + ".plus");
            std::string to = i == 0 ? ground : nodes[static_cast<std::size_t>(pick(0, i - 1))];
            between(fmt::format("Resistor(resistance = {:.2f} ohm)", number(50, 800)), nodes.back(), to);
        }
        auto node = [&] { return nodes[static_cast<std::size_t>(pick(0, n - 1))]; };
        // a source behind a resistor
        std::string source = part(fmt::format("AcSource(voltage = {:.2f} V, frequency = {:.1f} Hz)", number(1, 12), number(40, 300)));
        join(source + ".minus", ground);
        between(fmt::format("Resistor(resistance = {:.2f} ohm)", number(20, 200)), source + ".plus", node());
        for (int k = pick(0, 3); k > 0; --k) {
            std::string from = node(), to = node();
            if (from == to) continue;
            switch (pick(0, 3)) {
                case 0: {
                    std::string r = part(fmt::format("Resistor(resistance = {:.2f} ohm)", number(20, 200)));
                    join(r + ".plus", from);
                    between(fmt::format("Inductor(inductance = {:.3f} mH)", number(5, 80)), r + ".minus", to);
                    break;
                }
                case 1: {
                    std::string r = part(fmt::format("Resistor(resistance = {:.2f} ohm)", number(20, 200)));
                    join(r + ".plus", from);
                    between("Diode(capacitance = 1 uF)", r + ".minus", to);
                    break;
                }
                case 2:
                    between(fmt::format("Resistor(resistance = {:.2f} ohm)", number(20, 900)), from, to);
                    break;
                default:  // a capacitor beside those of both nodes: three in a ring
                    between(fmt::format("Capacitor(capacitance = {:.3f} uF)", number(1, 20)), from, to);
                    hidden_ = true;
            }
        }
        if (maybe(4)) {  // two coils in one branch carry one current
            hidden_ = true;
            std::string a = part("Inductor(inductance = 20 mH)"), r = part("Resistor(resistance = 70 ohm)");
            join(a + ".plus", nodes[0]);
            join(a + ".minus", r + ".plus");
            between("Inductor(inductance = 33 mH)", r + ".minus", ground);
        }
    }

    void masses()
    {
        stop_ = 2;
        std::string wall = part("Anchor") + ".point";
        std::vector<std::string> points{wall};
        int n = pick(2, 4);
        for (int i = 0; i < n; ++i) {
            std::string to = points[static_cast<std::size_t>(pick(0, i))],
                        point = part(fmt::format("Mass(mass = {:.3f} kg, slope = {:.1f} deg)", number(0.5, 9), number(-30, 30)));
            text_ += fmt::format(" init {0}.x = {1:.3f} m ; init {0}.v = {2:.3f} m/s\n", point, number(-0.2, 0.2), number(-1, 1));
            point += ".point";
            between(fmt::format("Spring(stiffness = {:.1f} N/m)", number(50, 2000)), to, point, "a", "b");
            if (maybe(2)) between(fmt::format("Damper(damping = {:.2f} N*s/m)", number(1, 30)), to, point, "a", "b");
            points.push_back(point);
        }
        std::string push = part("ForceSource");
        join(push + ".point", points.back());
        text_ += fmt::format(" {:.2f} N * sin({:.3f} * time / (1 s)) -> {}.force\n", number(1, 40), number(1, 9), push);
        if (maybe(3)) {
            std::string stop = part("EndStop(low = -150 mm, high = 150 mm, stiffness = 2e4 N/m)");
            join(stop + ".moving", points[1]);
        }
        if (maybe(3)) {  // a second mass on the same point: two positions that are one
            hidden_ = true;
            join(part("Mass(mass = 1.5 kg)") + ".point", points.back());
        }
    }

    void drive()
    {
        stop_ = 0.5;
        std::string source = part(fmt::format("VoltageSource(voltage = {:.2f} V)", number(6, 48))), ground = part("Ground") + ".pin";
        std::string machine = part("DcMachine");
        join(source + ".plus", machine + ".plus");
        join(source + ".minus", machine + ".minus");
        join(source + ".minus", ground);
        std::string shaft = machine + ".shaft";
        if (maybe(2)) {
            hidden_ = true;  // the rotor and what is behind the gear turn as one
            std::string gear = part(fmt::format("Gear(ratio = {:.2f})", number(2, 9)));
            join(shaft, gear + ".a");
            shaft = gear + ".b";
        } else {
            std::string twist = part(fmt::format("TorsionSpring(stiffness = {:.1f} N*m/rad)", number(20, 400))),
                        damp = part("TorsionDamper(damping = 0.05 N*m*s/rad)");
            join(shaft, twist + ".a");
            join(shaft, damp + ".a");
            join(twist + ".b", damp + ".b");
            shaft = twist + ".b";
        }
        std::string load = part(fmt::format("Inertia(inertia = {:.4f} kg*m^2)", number(0.01, 0.5)));
        join(shaft, load + ".shaft");
        std::string brake = part("TorqueSource");
        join(shaft, brake + ".shaft");
        text_ += fmt::format(" {:.3f} N*m * sin({:.2f} * time / (1 s)) -> {}.torque\n", number(0.1, 2), number(5, 40), brake);
    }

    void rooms()
    {
        stop_ = 3000;
        std::string air = part("TemperatureSource") + "";
        text_ += fmt::format(" 283.15 K + {:.2f} K * sin(time / ({:.1f} s)) -> {}.temperature\n", number(1, 15), number(200, 900), air);
        std::vector<std::string> places{air + ".surface"};
        int n = pick(2, 4);
        for (int i = 0; i < n; ++i) {
            std::string body = part(fmt::format("HeatMass(capacity = {:.2f} kJ/K)", number(1, 60)));
            text_ += fmt::format(" init {}.T = {:.2f} degC\n", body, number(-10, 90));
            std::string place = body + ".surface", to = places[static_cast<std::size_t>(pick(0, i))];
            between(fmt::format("Convection(area = {:.2f} m^2, coefficient = {:.2f} W/(m^2*K))", number(0.2, 4), number(3, 30)), to, place, "a", "b");
            if (maybe(3)) between("Radiation", places[0], place, "a", "b");
            places.push_back(place);
        }
        std::string heater = part("HeatSource");
        join(heater + ".surface", places.back());
        text_ += fmt::format(" {:.1f} W * (1 + sin(time / ({:.1f} s))) -> {}.power\n", number(10, 400), number(100, 900), heater);
        if (maybe(3)) {  // two bodies pressed together
            hidden_ = true;
            join(part("HeatMass(capacity = 7 kJ/K)") + ".surface", places.back());
        }
    }

    void pipes()
    {
        stop_ = 0.5;
        text_ += " fluid oil = MineralOil()\n";
        std::vector<std::string> nodes;
        int n = pick(2, 3);
        for (int i = 0; i < n; ++i) {
            std::string v = part(fmt::format("Volume(volume = {:.2f} L)", number(0.5, 20)));
            text_ += fmt::format(" init {}.p = {:.2f} bar\n", v, number(2, 120));
            nodes.push_back(v + ".a");
        }
        auto node = [&] { return nodes[static_cast<std::size_t>(pick(0, n - 1))]; };
        std::string tank = part("Tank(oil = oil, pressure = 1.2 bar)") + ".outlet";
        for (int i = 0; i < n; ++i) {
            std::string to = i == 0 ? tank : nodes[static_cast<std::size_t>(pick(0, i - 1))];
            switch (pick(0, 2)) {
                case 0:
                    between(fmt::format("Orifice(diameter = {:.2f} mm)", number(1, 6)), nodes[static_cast<std::size_t>(i)], to, "inlet", "outlet");
                    break;
                case 1:
                    between(fmt::format("PipeStretch(length = {:.2f} m, diameter = {:.1f} mm)", number(1, 20), number(10, 40)),
                            nodes[static_cast<std::size_t>(i)], to, "inlet", "outlet");
                    break;
                default:
                    between("CheckValve", nodes[static_cast<std::size_t>(i)], to, "inlet", "outlet");
                    between("Leak(conductance = 0.02 L/min/bar)", nodes[static_cast<std::size_t>(i)], to, "inlet", "outlet");
            }
        }
        std::string feed = part("FlowSource");
        join(feed + ".outlet", node());
        text_ += fmt::format(" {:.2f} L/min * (1 + 0.8 * sin({:.2f} * time / (1 s))) -> {}.flow\n", number(2, 40), number(3, 60), feed);
        if (maybe(3)) {  // two volumes on one joint
            hidden_ = true;
            join(part("Volume(volume = 2 L)") + ".a", nodes[0]);
        }
    }

    std::mt19937 random_;
    std::string text_;
    double stop_ = 1;
    bool hidden_ = false;
    int n_ = 0;
};

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("sixty random networks of the libraries: verified against their text, and as IDA integrates them without any pass")
{
    const char* many = std::getenv("NETLOOP_RANDOM");
    const char* from = std::getenv("NETLOOP_RANDOM_FROM");
    unsigned n = many != nullptr ? static_cast<unsigned>(std::atoi(many)) : 60, first = from != nullptr ? static_cast<unsigned>(std::atoi(from)) : 1;
    unsigned compared = 0, hidden = 0;
    for (unsigned seed = first; seed < first + n; ++seed) {
        Network network = Builder(seed).network();
        if (std::getenv("NETLOOP_RANDOM_SHOW") != nullptr) fmt::print("# seed {}, to {} s\n{}", seed, network.stop, network.text), std::fflush(stdout);
        INFO("seed " << seed << "\n" << network.text);
        CompiledSystem system = test::compile(network.text);
        Run run(system);
        RunOptions options;
        options.stop = network.stop;
        options.tolerance = 1e-9;
        options.output_every = network.stop / 50;
        options.verify = true;
        Recording rec = run.simulate(options);
        INFO(run.summary().verification.text(true));
        CHECK(run.summary().verification.holds);
        if (network.hidden) {
            ++hidden;
            continue;
        }
        std::vector<double> other = test::by_ida(system, network.stop, 1e-9);
        if (other.empty()) continue;
        ++compared;
        const auto& form = system.data().model->form;
        for (QuantityId q = 0; q < other.size(); ++q) {
            const std::string& path = form.flat().quantities[q].path;
            double usual = form.written_usual[form.as_written().first_leaf[q]], ours = rec[path].final();
            INFO(path << ": " << ours << " against " << other[q]);
            CHECK(std::abs(ours - other[q]) < 2e-4 * (usual + std::abs(other[q])));
        }
    }
    MESSAGE(n << " networks, " << compared << " compared, " << hidden << " with hidden constraints");
    CHECK(compared > n / 4);
    if (n >= 60) CHECK(hidden > n / 10);
}

TEST_SUITE_END();
