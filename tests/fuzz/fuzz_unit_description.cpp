// SPDX-License-Identifier: Apache-2.0
// A description of a unit is refused, or becomes components that our language takes.
#include <cstddef>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <netloop/netloop.hpp>

#include "foreign/unit_component.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    using namespace netloop;
    ForeignUnit unit;
    unit.file = "unit.fmu";
    try {
        unit.description = std::make_shared<const ForeignDescription>(read_foreign_description(std::string(reinterpret_cast<const char*>(data), size)));
    } catch (const UnitProblemFound&) {
        return 0;
    }
    for (UnitKind kind : {UnitKind::exchange, UnitKind::cosimulation}) {
        if (!(kind == UnitKind::exchange ? unit.description->is_exchange() : unit.description->is_cosimulation())) continue;
        std::string text = unit_text(unit, kind, "Unit");
        try {
            Library library = Library::standard();
            library.load_text("unit.fmu", text);
            for (const Diagnostic& d : library.check())
                if (d.severity == Diagnostic::Severity::error) throw ModelError(d.rendered, {});
        } catch (const ModelError& error) {
            std::fprintf(stderr, "%s\n%s\n", error.what(), text.c_str());
            std::abort();
        }
    }
    return 0;
}
