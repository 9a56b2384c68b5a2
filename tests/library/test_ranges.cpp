// SPDX-License-Identifier: Apache-2.0
// Every param of every shipped component holds to its range and its unit, and says so by path.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "support/support.hpp"

using namespace netloop;
using nlohmann::json;

namespace {

struct Param {
    std::string component, name, unit, low, high, value;
};

// "1e-09 kg .. 1000000000 kg"
bool take_range(const std::string& text, Param& p)
{
    std::size_t dots = text.find(" .. ");
    if (dots == std::string::npos) return false;
    p.low = text.substr(0, dots);
    p.high = text.substr(dots + 4);
    return true;
}

std::vector<Param> all_params()
{
    std::vector<Param> params;
    Library library = Library::standard();
    for (const std::string& package : library.packages())
        for (const Library::Entry& e : library.list(package)) {
            if (e.kind != "component") continue;
            json page = json::parse(library.describe(e.name, Library::Form::json));
            for (const json& p : page["sections"].value("params", json::array())) {
                Param made{e.name, p["name"], p["unit"], "", "", p["value"]};
                if (take_range(p["range"], made)) params.push_back(made);
            }
        }
    return params;
}

// A number with its unit, moved off: "80 mm" -> "79 mm" or "81 mm".
std::string beyond(const std::string& text, bool up)
{
    std::size_t used = 0;
    double value = std::stod(text, &used), step = std::max(std::abs(value), 1e-12);
    return fmt::format("{:.17g}{}", up ? value + step : value - step, text.substr(used));
}

std::string messages_for(const Param& p, const std::string& value)
{
    Library library = Library::standard();
    try {
        library.load_text("s.loop", fmt::format("system S {{\n part it : {}({} = {})\n}}\n", p.component, p.name, value));
        CompileRequest request;
        Run(compile(library, request)).check_params();
    } catch (const ModelError& error) {
        return error.what();
    }
    return "";
}

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("shipped params have ranges that hold their defaults, and refuse what lies beyond, by path and with the range")
{
    std::vector<Param> params = all_params();
    CHECK(params.size() > 350);
    std::size_t tried = 0, tried_of_this = 0;
    std::string last;
    bool alone = false;
    for (const Param& p : params) {
        // of components that can stand alone; two params of each are enough to see that the ranges are looked at
        if (p.component != last) alone = messages_for(p, p.value.empty() ? p.low : p.value).empty(), last = p.component, tried_of_this = 0;
        if (!alone || ++tried_of_this > 2) continue;
        for (bool up : {false, true}) {
            std::string value = beyond(up ? p.high : p.low, up), said = messages_for(p, value);
            INFO(p.component, ".", p.name, " = ", value, " beyond ", p.low, " .. ", p.high, "\n", said);
            CHECK(said.find("'it." + p.name + "'") != std::string::npos);
            CHECK(said.find("outside its range") != std::string::npos);
            CHECK(said.find("[out-of-range]") != std::string::npos);
            ++tried;
        }
    }
    CHECK(tried > 90);
}

TEST_CASE("shipped params refuse another unit, with both named, and a bare number where a unit is declared")
{
    std::vector<Param> params = all_params();
    for (std::size_t k = 2; k < params.size(); k += 9) {
        const Param& p = params[k];
        std::string wrong = p.unit == "mol" ? "3 cd" : "3 mol", said = messages_for(p, wrong);
        INFO(p.component, ".", p.name, " [", p.unit, "] = ", wrong, "\n", said);
        CHECK(said.find("[mol]") != std::string::npos);
        CHECK(said.find("[unit-of-value]") != std::string::npos);
        if (p.unit == "1" || p.unit.empty()) continue;
        said = messages_for(p, "3.5");
        INFO("= 3.5\n", said);
        CHECK(said.find("bare-number") != std::string::npos);
    }
}

TEST_SUITE_END();
