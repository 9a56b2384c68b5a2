// SPDX-License-Identifier: Apache-2.0
// A component defined by a program: a thermostat-less heater whose power falls with its own temperature, joined to library parts.
#include <netloop/netloop.hpp>

#include <cstdio>

namespace nl = netloop;
using namespace nl::literals;

int main()
{
    nl::Library library = nl::Library::standard();

    nl::ComponentBuilder heater("SelfLimitingHeater", library);
    heater.doc("A heater whose power falls linearly to zero at its limit temperature.");
    auto surface = heater.port("surface", "heat.thermal");
    auto power = heater.param("power", "W", 200_W, 0_W, nl::q(1e6, "W"));
    auto limit = heater.param("limit", "degC", 90_degC);
    auto reference = heater.param("reference", "degC", 20_degC);
    heater.equation(surface["heat"] == -(power * (limit - surface["T"]) / (limit - reference)));
    heater.define();

    nl::SystemBuilder cabin("Cabin", library);
    auto source = cabin.part("heater", "SelfLimitingHeater");
    auto room = cabin.part("room", "heat.HeatMass", {{"capacity", nl::q(50, "kJ/K")}});
    auto wall = cabin.part("wall", "heat.Convection", {{"area", nl::q(12, "m^2")}, {"coefficient", nl::q(0.4, "W/(m^2*K)")}});
    auto outside = cabin.part("outside", "heat.Surroundings", {{"temperature", 0_degC}});
    cabin.join({source["surface"], room["surface"], wall["a"]});
    cabin.join({wall["b"], outside["surface"]});
    cabin.init(room["T"], nl::Expression(10_degC));

    nl::Run run(nl::compile(cabin));
    nl::Recording rec = run.simulate({.stop = 12 * 3600.0, .output_every = 60});
    std::printf("after 12 h: %.3f degC, heater gives %.2f W\n", rec["room.T"].in("degC").final(), -rec["heater.surface.heat"].final());
    return 0;
}
