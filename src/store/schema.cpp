// SPDX-License-Identifier: Apache-2.0
#include "store/schema.hpp"

#include <fmt/format.h>

#include <array>

namespace netloop {
namespace {

// Each step leads from the version before it. A step that was once released is never changed.
constexpr std::array<const char*, 2> kUpgrades{
    R"(create table texts (hash text primary key, body text not null);
create table model_texts (model text not null, place bigint not null, file text not null, hash text not null references texts (hash), primary key (model, place));
create table studies (id bigint primary key, name text not null, system text not null, author text not null, created text not null, version text not null,
    plan text not null, about text not null, model text not null, take text not null, base bigint not null, n_runs bigint not null, n_done bigint not null,
    n_failed bigint not null, next_run bigint not null, columns text not null, settings text not null, fingerprint text not null);
create index studies_by_name on studies (name, id);
create table batches (study bigint not null references studies (id), first bigint not null, n bigint not null, owner text not null, lease double precision not null,
    primary key (study, first));)",
    // what teams share, and recordings in the database itself
    R"(create table entries (catalogue text not null, name text not null, version bigint not null, title text not null, kind text not null, base text not null,
    author text not null, created text not null, body text not null, primary key (catalogue, name, version));
create table recordings (study bigint not null references studies (id), run bigint not null, place bigint not null, body text not null, primary key (study, run, place));)"};

int version_of(Database& db)
{
    db.script("create table if not exists netloop_store (name text primary key, value text not null)");
    auto rows = db.query("select value from netloop_store where name = 'schema'");
    return rows.empty() ? 0 : static_cast<int>(integer_of(rows[0][0]));
}

}  // namespace

int schema_version()
{
    return static_cast<int>(kUpgrades.size());
}

void bring_up_to(Database& db, const std::string& told, int wanted)
{
    Transaction work(db);
    // of several that come at once, one makes the tables
    if (db.shared()) db.script("select pg_advisory_xact_lock(7065127)");
    int version = version_of(db);
    if (version > schema_version())
        throw StoreError("store-newer",
                         fmt::format("store '{}' was written by a newer netloop (tables of version {}, this one knows {})", told, version, schema_version()),
                         "use the newer netloop, or another store");
    for (int v = version; v < wanted; ++v) db.script(kUpgrades[static_cast<std::size_t>(v)]);
    if (version < wanted)
        db.change("insert into netloop_store (name, value) values ('schema', $1) on conflict (name) do update set value = excluded.value",
                  {std::to_string(wanted)});
    work.commit();
}

void bring_up_to_date(Database& db, const std::string& told)
{
    bring_up_to(db, told, schema_version());
}

std::string runs_table(std::int64_t study)
{
    return fmt::format("runs_{}", study);
}

void make_runs_table(Database& db, std::int64_t study, std::size_t n_columns)
{
    std::string columns;
    for (std::size_t c = 0; c < n_columns; ++c) columns += fmt::format(", c{} double precision", c);
    db.script(
        fmt::format("create table {} (run bigint primary key, status text not null, id text not null, reason text not null, seconds double precision not null, "
                    "steps bigint not null, worker text not null, recording text not null{})",
                    runs_table(study), columns));
}

}  // namespace netloop
