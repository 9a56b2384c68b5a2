// SPDX-License-Identifier: Apache-2.0
// `store`: what a store holds, catalogues that a team shares, and keeping house.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "files/input_file.hpp"
#include "files/output_file.hpp"
#include "stores.hpp"

namespace {

struct Options {
    std::string store, what, file, study, older;
    bool json = false, all = false;
};

int list(const Options& o)
{
    netloop::Store store = open_store(o.store);
    auto studies = store.studies();
    auto entries = store.entries({}, o.all);
    if (o.json) {
        nlohmann::json s = nlohmann::json::array(), e = nlohmann::json::array();
        for (const auto& r : studies)
            s.push_back({{"id", r.id},
                         {"name", r.name},
                         {"system", r.system},
                         {"author", r.author},
                         {"created", r.created},
                         {"version", r.version},
                         {"runs", r.n_runs},
                         {"done", r.n_done},
                         {"failed", r.n_failed}});
        for (const auto& r : entries)
            e.push_back({{"catalogue", r.catalogue},
                         {"name", r.name},
                         {"version", r.version},
                         {"title", r.title},
                         {"kind", r.kind},
                         {"author", r.author},
                         {"created", r.created}});
        show_json({{"studies", s}, {"entries", e}});
        return 0;
    }
    if (!studies.empty()) show("{:>4}  {:<20} {:<16} {:>16} {:>7}  {:<12} {}\n", "id", "study", "system", "done", "failed", "by", "when");
    for (const auto& r : studies)
        show("{:>4}  {:<20} {:<16} {:>16} {:>7}  {:<12} {}\n", r.id, r.name, r.system, fmt::format("{} of {}", r.n_done, r.n_runs), r.n_failed, r.author,
             r.created);
    if (!entries.empty()) show("{}{:<24} {:>7}  {:<24} {:<12} {}\n", studies.empty() ? "" : "\n", "entry", "version", "kind", "by", "when");
    for (const auto& r : entries) show("{:<24} {:>7}  {:<24} {:<12} {}\n", r.catalogue + "." + r.name, r.version, r.kind, r.author, r.created);
    if (studies.empty() && entries.empty()) show("{} is empty\n", store.where());
    return 0;
}

int publish(const Options& o)
{
    if (o.file.empty()) throw netloop::UsageError("publish what? netloop store publish STORE parts.loop");
    netloop::Library library = netloop::Library::standard();
    library.load_file(o.file);
    netloop::Store store = netloop::Store::open(o.store.ends_with(".loop") ? store_beside(o.store) : o.store);
    std::size_t n = 0;
    for (const netloop::StoredEntry& e : netloop::catalogue_entries(library)) {
        std::int64_t version = store.publish(e);
        show("{}.{}  version {}\n", e.catalogue, e.name, version);
        ++n;
    }
    if (n == 0) throw netloop::UsageError(fmt::format("'{}' has no catalogue", o.file));
    return 0;
}

bool is_fetched(const std::string& path)
{
    constexpr std::size_t kHead = 200;
    return netloop::first_bytes(path, kHead).find("fetched from a store by netloop") != std::string::npos;
}

int fetch(const Options& o)
{
    if (o.file.empty()) throw netloop::UsageError("fetch into which file? netloop store fetch STORE parts.loop");
    netloop::Store store = open_store(o.store);
    auto entries = store.entries();
    if (entries.empty()) throw netloop::UsageError(fmt::format("store '{}' holds no catalogue entries", store.where()));
    netloop::write_whole(o.file, netloop::catalogue_text(entries), {.what = "fetched catalogues", .replaces = is_fetched, .inputs = {}, .model_text = true});
    show("{}: {} entries\n", o.file, entries.size());
    return 0;
}

int prune(const Options& o)
{
    netloop::Store store = open_store(o.store);
    if (o.study.empty()) throw netloop::UsageError("prune which study? --study, by number (or name: all of that name but the newest)");
    bool number = o.study.find_first_not_of("0123456789") == std::string::npos;
    if (number) {
        store.remove(std::strtoll(o.study.c_str(), nullptr, 10));
        show("study {} is removed\n", o.study);
        return 0;
    }
    auto of_name = store.studies(o.study);
    if (of_name.empty()) throw netloop::UsageError(fmt::format("store '{}' holds no study '{}'", store.where(), o.study));
    of_name.pop_back();
    for (const auto& s : of_name) store.remove(s.id);
    show("{} removed, the newest of '{}' is kept\n", of_name.size(), o.study);
    return 0;
}

int check(const Options& o)
{
    netloop::Store store = open_store(o.store);
    auto found = store.check();
    for (const std::string& line : found) show("{}\n", line);
    show("{}: {}\n", store.where(), found.empty() ? "sound" : fmt::format("{} findings", found.size()));
    return found.empty() ? 0 : 1;
}

}  // namespace

Command add_store(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("store", "Look after a store of studies and shared catalogues");
    app->add_option("what", o->what, "list, publish (catalogues of FILE), fetch (catalogues into FILE), prune (a study), check")
        ->required()
        ->check(CLI::IsMember({"list", "publish", "fetch", "prune", "check"}));
    app->add_option("store", o->store, "the store: a file, postgresql://..., or the .loop file that it stands beside")->required();
    app->add_option("file", o->file, "of publish and fetch: the .loop file");
    app->add_option("--study", o->study, "of prune: the study, by number; by name all but the newest");
    app->add_flag("--all-versions", o->all, "of list: older versions of entries too");
    app->add_flag("--json", o->json, "of list: for programs");
    app->footer("Example:  netloop store list drive.studies.sqlite\n          netloop store publish postgresql://team@host/studies parts.loop");
    return {app, [o] {
                if (o->what == "list") return list(*o);
                if (o->what == "publish") return publish(*o);
                if (o->what == "fetch") return fetch(*o);
                return o->what == "prune" ? prune(*o) : check(*o);
            }};
}
