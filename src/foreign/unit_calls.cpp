// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_calls.hpp"

#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace netloop {

UnitAccess::UnitAccess(const std::vector<ForeignVariable>& variables, const std::vector<std::size_t>& which)
{
    for (std::size_t index : which) {
        const ForeignVariable& v = variables[index];
        auto group = std::find_if(groups.begin(), groups.end(), [&](const Group& g) { return g.type == v.type; });
        if (group == groups.end()) group = groups.insert(groups.end(), Group{v.type, {}, {}});
        group->references.push_back(v.reference);
        for (std::size_t k = 0; k < v.n_elements; ++k) group->places.push_back(n++);
    }
}

std::unique_ptr<UnitCalls> make_unit_calls(const ForeignDescription& d, const std::string& folder, UnitKind kind, const std::string& instance)
{
    return d.version == 2 ? make_fmi2_calls(d, folder, kind, instance) : make_fmi3_calls(d, folder, kind, instance);
}

UnitBinary::UnitBinary(const std::string& file)
{
    handle_ = dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
    if (handle_ == nullptr) {
        const char* why = dlerror();
        throw UnitProblemFound(fmt::format("its binary cannot be loaded: {}", why != nullptr ? why : "no reason is given"));
    }
}

UnitBinary::~UnitBinary()
{
    if (handle_ != nullptr) dlclose(handle_);
}

void* UnitBinary::function(const std::string& name) const
{
    void* f = dlsym(handle_, name.c_str());
    if (f == nullptr) throw UnitProblemFound(fmt::format("its binary has no function {}", name));
    return f;
}

void UnitWords::hear(const std::string& text)
{
    constexpr std::size_t kMost = 600;
    if (text.empty() || said_.size() >= kMost) return;
    said_ += (said_.empty() ? "" : "; ") + text.substr(0, kMost);
}

std::string UnitWords::take()
{
    std::string text = std::move(said_);
    said_.clear();
    return text;
}

void look_at_status(const char* call, int status, UnitWords& words)
{
    enum { ok, warning, discard, error, fatal, pending };
    std::string said = words.take();
    if (status == ok || status == warning) return;
    static constexpr std::array<const char*, 6> kNames{"ok", "a warning", "discard", "an error", "a fatal error", "pending"};
    const char* name =
        status >= 0 && status < static_cast<int>(kNames.size()) ? kNames[static_cast<std::size_t>(status)] : "a status that the standard does not know";
    std::string text = fmt::format("{} gives {}{}{}", call, name, said.empty() ? "" : ": ", said);
    if (status == discard) throw UnitDiscards(text);
    throw UnitCallFailed(text);
}

}  // namespace netloop
