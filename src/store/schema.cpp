// SPDX-License-Identifier: Apache-2.0
#include "store/schema.hpp"

#include <fmt/format.h>

#include <array>

namespace netloop {
namespace {

// Each step leads from the version before it. A step that was once released is never changed.
constexpr std::array<const char*, 3> kUpgrades{
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
create table recordings (study bigint not null references studies (id), run bigint not null, place bigint not null, body text not null, primary key (study, run, place));)",
    // recordings as objects of the database; before, they were rows of hexadecimal digits
    R"(create table recording_objects (study bigint not null references studies (id), run bigint not null, object bigint not null, bytes bigint not null,
    primary key (study, run));)"};
constexpr int kObjects = 3;  // the version that has them

std::string from_hex(const std::string& text)
{
    auto digit = [](char c) { return static_cast<unsigned>(c <= '9' ? c - '0' : c - 'a' + 10); };
    std::string out;
    for (std::size_t i = 0; i + 1 < text.size(); i += 2) out += static_cast<char>(digit(text[i]) * 16 + digit(text[i + 1]));
    return out;
}

void move_recordings(Database& db)
{
    db.make_objects();
    for (const DbRow& r : db.query("select distinct study, run from recordings")) {
        std::int64_t place = 0, bytes = 0;
        const std::int64_t object = db.keep_object([&] {
            auto piece = db.query("select body from recordings where study = $1 and run = $2 and place = $3", {r[0], r[1], place++});
            std::string next = piece.empty() ? std::string() : from_hex(text_of(piece[0][0]));
            bytes += static_cast<std::int64_t>(next.size());
            return next;
        });
        db.change("insert into recording_objects (study, run, object, bytes) values ($1, $2, $3, $4)", {r[0], r[1], object, bytes});
    }
    db.script("drop table recordings");
}

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
    for (int v = version; v < wanted; ++v) {
        db.script(kUpgrades[static_cast<std::size_t>(v)]);
        if (v + 1 == kObjects) move_recordings(db);
    }
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
