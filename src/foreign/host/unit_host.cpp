// SPDX-License-Identifier: Apache-2.0
// The process of an isolated unit: netloop_unit_host FOLDER exchange|cosimulation NAME, with its socket as file 3. It ends when the other end does.
#include <cmath>
#include <cstdio>
#include <cstring>
#include <fstream>
#include <sstream>

#include "foreign/unit_frames.hpp"
#include "foreign/unit_instance.hpp"

using namespace netloop;

namespace {

using Values = std::vector<double>;

std::vector<Values> answer(UnitInstance& unit, UnitAsks what, const std::vector<Values>& a)
{
    Values x, y, z, d;
    auto told = [](const UnitHappened& h) { return Values{h.ended ? 1.0 : 0.0, h.moved ? 1.0 : 0.0, h.next}; };
    switch (what) {
        case UnitAsks::set_up:
            unit.set_up(a.at(0), a.at(1).at(0), a.at(1).at(1));
            return {};
        case UnitAsks::start_values:
            unit.start_values(a.at(0), a.at(1), x, y, d);
            return {x, y, d};
        case UnitAsks::begin: {
            x = a.at(3);
            UnitHappened h = unit.begin(a.at(0).at(0), a.at(1), a.at(2), x, y, d);
            return {told(h), x, y, d};
        }
        case UnitAsks::look:
            unit.look(a.at(0).at(0), a.at(1), a.at(2), x, y, z);
            return {x, y, z};
        case UnitAsks::column: {
            bool known = unit.column(static_cast<std::size_t>(a.at(0).at(0)), x, y);
            return {{known ? 1.0 : 0.0}, x, y};
        }
        case UnitAsks::happen: {
            x = a.at(1);
            UnitHappened h = unit.happen(a.at(0).at(0), x, a.at(2), a.at(3), d);
            return {told(h), x, d};
        }
        case UnitAsks::completed: {
            bool ended = false, wanted = unit.completed_step(ended);
            return {{wanted ? 1.0 : 0.0, ended ? 1.0 : 0.0}};
        }
        case UnitAsks::step: {
            bool goes_on = unit.do_step(a.at(0).at(0), a.at(0).at(1), a.at(1), a.at(2), y, d);
            return {{goes_on ? 1.0 : 0.0}, y, d};
        }
    }
    throw UnitCallFailed("a question that nobody knows");
}

}  // namespace

int main(int argc, char** argv)
{
    constexpr int kSocket = 3;
    if (argc != 4) {
        std::fprintf(stderr, "netloop_unit_host is started by Net Loop for units that run in a process of their own\n");
        return 2;
    }
    std::ifstream file(std::string(argv[1]) + "/modelDescription.xml", std::ios::binary);
    std::ostringstream text;
    text << file.rdbuf();
    std::unique_ptr<UnitInstance> unit;
    UnitFrame frame;
    while (receive_frame(kSocket, frame, -1) == Received::frame) {
        UnitFrame reply;
        try {
            if (unit == nullptr) {
                auto d = std::make_shared<const ForeignDescription>(read_foreign_description(text.str()));
                UnitKind kind = std::strcmp(argv[2], "exchange") == 0 ? UnitKind::exchange : UnitKind::cosimulation;
                unit = make_direct_unit(d, UnitPlan(*d, kind), argv[1], argv[3]);
            }
            reply.lists = answer(*unit, static_cast<UnitAsks>(frame.head), frame.lists);
        } catch (const UnitProblemFound& e) {
            reply = {2, {}, e.what()};
        } catch (const UnitDiscards& e) {
            reply = {3, {}, e.what()};
        } catch (const std::exception& e) {
            reply = {1, {}, e.what()};
        }
        if (!send_frame(kSocket, reply)) return 1;
    }
    return 0;
}
