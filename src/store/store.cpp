// SPDX-License-Identifier: Apache-2.0
#include "netloop/store.hpp"

#include <fmt/format.h>
#include <pwd.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <ctime>
#include <filesystem>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "base/diagnostics.hpp"
#include "files/input_file.hpp"
#include "files/output_file.hpp"
#include "record/reader.hpp"
#include "store/filter.hpp"
#include "store/schema.hpp"
#include "store/store_data.hpp"

namespace netloop {
namespace {

constexpr const char* kStudyColumns =
    "select id, name, system, author, created, version, plan, about, model, take, base, n_runs, n_done, n_failed, columns from studies";
constexpr std::size_t kHead = 8;  // columns of a table of runs before those of the study

std::string row_columns(const StudyRecord& study)
{
    std::string list = "run, status, id, reason, seconds, steps, worker, recording";
    for (std::size_t c = 0; c < study.columns.size(); ++c) list += fmt::format(", c{}", c);
    return list;
}

StudyRow row_of(const DbRow& r)
{
    StudyRow row{integer_of(r[0]), text_of(r[1]), text_of(r[2]), text_of(r[3]), number_of(r[4]), integer_of(r[5]), text_of(r[6]), text_of(r[7]), {}};
    row.values.reserve(r.size() - kHead);
    for (std::size_t c = kHead; c < r.size(); ++c) row.values.push_back(number_of(r[c]));
    return row;
}

std::string now_text()
{
    std::time_t now = std::time(nullptr);
    std::tm utc{};
    gmtime_r(&now, &utc);
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &utc);
    return text;
}

std::string user_name()
{
    if (const passwd* p = getpwuid(geteuid()); p != nullptr) return p->pw_name;
    const char* name = std::getenv("USER");
    return name != nullptr ? name : "unknown";
}

// With the objects that hold them: within a transaction. `which`: a condition of our own.
void drop_recordings(Database& db, const char* which, const std::vector<DbValue>& values)
{
    for (const DbRow& r : db.query(fmt::format("select object from recording_objects where {}", which), values)) db.drop_object(integer_of(r[0]));
    db.change(fmt::format("delete from recording_objects where {}", which), values);
}

bool is_url(const std::string& where)
{
    return where.starts_with("postgresql://") || where.starts_with("postgres://");
}

}  // namespace

std::string hash_of(const std::string& text)
{
    std::uint64_t hash = 0xcbf29ce484222325u;
    for (unsigned char c : text) hash = (hash ^ c) * 0x100000001b3u;
    return fmt::format("{:016x}", hash);
}

std::string StudyColumn::shown(double value) const
{
    if (std::isnan(value)) return "-";
    if (kind == Kind::demand) return value != 0 ? "holds" : "not met";
    if (unit == "bool") return value != 0 ? "true" : "false";
    if (!levels.empty()) {
        auto at = static_cast<std::size_t>(value);
        return at < levels.size() ? levels[at] : "?";
    }
    return fmt::format("{:.5g}{}", (value - offset) / scale, unit.empty() || unit == "1" ? "" : " " + unit);
}

std::string columns_as_json(const std::vector<StudyColumn>& columns)
{
    static constexpr const char* kKinds[] = {"varied", "uncertain", "measure", "demand"};
    nlohmann::json list = nlohmann::json::array();
    for (const StudyColumn& c : columns) {
        nlohmann::json j{{"kind", kKinds[static_cast<std::size_t>(c.kind)]}, {"name", c.name}, {"unit", c.unit}, {"scale", c.scale}, {"offset", c.offset}};
        if (!c.levels.empty()) j["levels"] = c.levels;
        if (!c.titles.empty()) j["titles"] = c.titles;
        list.push_back(std::move(j));
    }
    return list.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
}

StudyRecord record_of(const DbRow& r)
{
    StudyRecord s;
    s.id = integer_of(r[0]);
    s.name = text_of(r[1]), s.system = text_of(r[2]), s.author = text_of(r[3]), s.created = text_of(r[4]), s.version = text_of(r[5]);
    s.plan = text_of(r[6]), s.text = text_of(r[7]), s.texts = text_of(r[8]), s.take = text_of(r[9]);
    s.base = integer_of(r[10]), s.n_runs = integer_of(r[11]), s.n_done = integer_of(r[12]), s.n_failed = integer_of(r[13]);
    try {
        for (const auto& j : nlohmann::json::parse(text_of(r[14]))) {
            StudyColumn c;
            std::string kind = j.at("kind");
            c.kind = kind == "varied"      ? StudyColumn::Kind::varied
                     : kind == "uncertain" ? StudyColumn::Kind::uncertain
                     : kind == "measure"   ? StudyColumn::Kind::measure
                                           : StudyColumn::Kind::demand;
            c.name = j.at("name"), c.unit = j.at("unit"), c.scale = j.at("scale"), c.offset = j.at("offset");
            if (j.contains("levels")) c.levels = j.at("levels").get<std::vector<std::string>>();
            if (j.contains("titles")) c.titles = j.at("titles").get<std::vector<std::string>>();
            s.columns.push_back(std::move(c));
        }
    } catch (const nlohmann::json::exception&) {
        throw StoreError("store-damaged", fmt::format("the columns of study {} cannot be read", s.id));
    }
    return s;
}

Store Store::open(const std::string& where)
{
    if (where.empty()) throw UsageError("a store is a file (runs.studies.sqlite) or postgresql://user@host/database");
    if (!is_url(where) && where.find("://") != std::string::npos)
        throw UsageError(fmt::format("'{}' is no store: a file, or postgresql://user@host/database", where));
    auto data = std::make_shared<StoreData>();
    data->db = is_url(where) ? open_postgresql(where) : open_sqlite(where, true);
    data->where = is_url(where) ? without_password(where) : where;
    bring_up_to_date(*data->db, data->where);
    return Store(data);
}

Store Store::open_existing(const std::string& where)
{
    if (!is_url(where) && !std::filesystem::exists(where))
        throw StoreError("store-refused", fmt::format("there is no store '{}'", where), "netloop study FILE makes one");
    return open(where);
}

const std::string& Store::where() const
{
    return data_->where;
}
bool Store::is_shared() const
{
    return data_->db->shared();
}

std::vector<StudyRecord> Store::studies(const std::string& name)
{
    std::vector<StudyRecord> list;
    auto rows = name.empty() ? data_->db->query(fmt::format("{} order by id", kStudyColumns))
                             : data_->db->query(fmt::format("{} where name = $1 order by id", kStudyColumns), {name});
    for (const DbRow& r : rows) list.push_back(record_of(r));
    return list;
}

StudyRecord Store::study(std::int64_t id)
{
    auto rows = data_->db->query(fmt::format("{} where id = $1", kStudyColumns), {id});
    if (rows.empty()) throw StoreError("store-refused", fmt::format("store '{}' has no study {}", where(), id), "netloop store list shows what it has");
    return record_of(rows[0]);
}

std::vector<StudyRow> Store::rows(const StudyRecord& study, const StudyQuery& query)
{
    std::string sql = fmt::format("select {} from {}", row_columns(study), runs_table(study.id));
    std::vector<DbValue> values;
    if (query.run) {
        sql += " where run = $1";
        values.push_back(*query.run);
    }
    if (!query.sort.empty()) {
        int c = column_of(study, query.sort);
        std::string name = c >= 0 ? fmt::format("c{}", c) : c == -1 ? "run" : c == -2 ? "seconds" : c == -3 ? "steps" : "status";
        sql += fmt::format(" order by ({0} is null), {0}{1}, run", name, query.descending ? " desc" : "");
    } else {
        sql += query.descending ? " order by run desc" : " order by run";
    }
    std::vector<StudyRow> list;
    if (query.where.empty()) {
        if (query.most >= 0) {
            sql += fmt::format(" limit ${}", values.size() + 1);
            values.push_back(query.most);
        }
        data_->db->run(sql, values, [&](DbRow& r) { list.push_back(row_of(r)); });
        return list;
    }
    RowFilter filter(query.where, study);
    data_->db->run(sql, values, [&](DbRow& r) {
        if (query.most >= 0 && static_cast<std::int64_t>(list.size()) >= query.most) return;
        StudyRow row = row_of(r);
        if (filter.holds(row)) list.push_back(std::move(row));
    });
    return list;
}

std::vector<ModelText> Store::texts(const StudyRecord& study)
{
    std::vector<ModelText> list;
    for (const DbRow& r : data_->db->query("select model_texts.file, texts.body from model_texts join texts on texts.hash = model_texts.hash where "
                                           "model_texts.model = $1 order by model_texts.place",
                                           {study.texts}))
        list.push_back({text_of(r[0]), text_of(r[1])});
    if (list.empty()) throw StoreError("store-damaged", fmt::format("the texts of study {} are not in the store", study.id));
    return list;
}

// --- catalogues ----------------------------------------------------------------------------------------------------------

std::int64_t Store::publish(const StoredEntry& e)
{
    Database& db = *data_->db;
    Transaction work(db);
    auto newest =
        db.query("select version, body, title, base from entries where catalogue = $1 and name = $2 order by version desc limit 1", {e.catalogue, e.name});
    std::int64_t version = newest.empty() ? 0 : integer_of(newest[0][0]);
    if (!newest.empty() && text_of(newest[0][1]) == e.text && text_of(newest[0][2]) == e.title && text_of(newest[0][3]) == e.base) {
        work.commit();
        return version;
    }
    ++version;
    db.change("insert into entries (catalogue, name, version, title, kind, base, author, created, body) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
              {e.catalogue, e.name, version, e.title, e.kind, e.base, e.author.empty() ? user_name() : e.author, now_text(), e.text});
    work.commit();
    return version;
}

std::vector<StoredEntry> Store::entries(const std::string& catalogue, bool all_versions)
{
    std::vector<StoredEntry> list;
    auto take = [&](DbRow& r) {
        StoredEntry e{text_of(r[0]), text_of(r[1]), text_of(r[3]), text_of(r[4]), text_of(r[5]), integer_of(r[2]), text_of(r[6]), text_of(r[7]), text_of(r[8])};
        bool older = !list.empty() && list.back().catalogue == e.catalogue && list.back().name == e.name;
        if (older && !all_versions)
            list.back() = std::move(e);
        else
            list.push_back(std::move(e));
    };
    std::string sql = "select catalogue, name, version, title, kind, base, author, created, body from entries";
    if (catalogue.empty())
        data_->db->run(sql + " order by catalogue, name, version", {}, take);
    else
        data_->db->run(sql + " where catalogue = $1 order by catalogue, name, version", {catalogue}, take);
    return list;
}

// --- keeping house -------------------------------------------------------------------------------------------------------

void Store::remove(std::int64_t id)
{
    study(id);  // tells if there is none
    Database& db = *data_->db;
    Transaction work(db);
    db.change("delete from batches where study = $1", {id});
    drop_recordings(db, "study = $1", {id});
    db.change("delete from studies where id = $1", {id});
    db.script(fmt::format("drop table if exists {}", runs_table(id)));
    db.change("delete from model_texts where model not in (select model from studies)");
    db.change("delete from texts where hash not in (select hash from model_texts)");
    work.commit();
}

std::vector<std::string> Store::check()
{
    std::vector<std::string> found;
    Database& db = *data_->db;
    if (!db.shared())
        for (const DbRow& r : db.query("pragma integrity_check"))
            if (text_of(r[0]) != "ok") found.push_back(text_of(r[0]));
    for (const StudyRecord& s : studies()) {
        std::int64_t done = 0, failed = 0, outside = 0;
        try {
            auto counts =
                db.query(fmt::format("select count(*), count(case when status <> 'done' then 1 end), count(case when run < 0 or run >= $1 then 1 end) from {}",
                                     runs_table(s.id)),
                         {s.n_runs});
            done = integer_of(counts[0][0]), failed = integer_of(counts[0][1]), outside = integer_of(counts[0][2]);
        } catch (const StoreError& error) {
            found.push_back(fmt::format("study {}: its runs cannot be read: {}", s.id, error.what()));
            continue;
        }
        if (done != s.n_done || failed != s.n_failed)
            found.push_back(fmt::format("study {}: {} runs and {} failures are counted, {} and {} are there", s.id, s.n_done, s.n_failed, done, failed));
        if (outside > 0) found.push_back(fmt::format("study {}: {} runs are none of its plan", s.id, outside));
        for (const DbRow& r : db.query("select run, object from recording_objects where study = $1", {s.id}))
            if (!db.has_object(integer_of(r[1]))) found.push_back(fmt::format("study {}: the recording of run {} is gone", s.id, integer_of(r[0])));
        try {
            for (const ModelText& t : texts(s))
                if (db.query("select 1 from texts where hash = $1", {hash_of(t.text)}).empty())
                    found.push_back(fmt::format("study {}: text '{}' is not what it was", s.id, t.file));
        } catch (const StoreError& error) {
            found.push_back(error.what());
        }
    }
    return found;
}

// --- what those ask who run studies --------------------------------------------------------------------------------------

std::int64_t StoreData::add_study(const StudyRecord& s, const std::vector<ModelText>& texts, const std::string& settings, const std::string& fingerprint)
{
    Transaction work(*db);
    if (db->shared()) db->script("select pg_advisory_xact_lock(7065128)");  // numbers are given to one at a time
    for (std::size_t i = 0; i < texts.size(); ++i) {
        std::string hash = hash_of(texts[i].text);
        db->change("insert into texts (hash, body) values ($1, $2) on conflict (hash) do nothing", {hash, texts[i].text});
        if (text_of(db->query("select body from texts where hash = $1", {hash})[0][0]) != texts[i].text)
            throw StoreError("store-refused", fmt::format("store '{}' has another text of the same hash as '{}'", where, texts[i].file),
                             "change a comment in it");
        db->change("insert into model_texts (model, place, file, hash) values ($1, $2, $3, $4) on conflict (model, place) do nothing",
                   {s.texts, static_cast<std::int64_t>(i), texts[i].file, hash});
    }
    std::int64_t id = integer_of(db->query("select coalesce(max(id), 0) + 1 from studies")[0][0]);
    db->change(
        "insert into studies (id, name, system, author, created, version, plan, about, model, take, base, n_runs, n_done, n_failed, next_run, columns, "
        "settings, fingerprint) "
        "values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, 0, 0, 0, $13, $14, $15)",
        {id, s.name, s.system, user_name(), now_text(), s.version, s.plan, s.text, s.texts, s.take, s.base, s.n_runs, columns_as_json(s.columns), settings,
         fingerprint});
    make_runs_table(*db, id, s.columns.size());
    work.commit();
    return id;
}

std::int64_t StoreData::unfinished(const std::string& fingerprint)
{
    auto rows = db->query("select id from studies where fingerprint = $1 and n_done < n_runs order by id desc limit 1", {fingerprint});
    return rows.empty() ? 0 : integer_of(rows[0][0]);
}

std::string StoreData::settings_of(std::int64_t study)
{
    auto rows = db->query("select settings from studies where id = $1", {study});
    return rows.empty() ? "" : text_of(rows[0][0]);
}

std::optional<Claim> StoreData::claim(std::int64_t study, const std::string& owner, std::int64_t at_least, std::int64_t at_most, double lease_s)
{
    Transaction work(*db);
    std::optional<Claim> claim;
    auto lapsed =
        db->query(fmt::format("select first, n from batches where study = $1 and lease < {} order by first limit 1{}", db->now(), db->skip_locked()), {study});
    if (!lapsed.empty()) {
        claim = Claim{integer_of(lapsed[0][0]), integer_of(lapsed[0][1])};
        db->change(fmt::format("update batches set owner = $1, lease = {} + $2 where study = $3 and first = $4", db->now()),
                   {owner, lease_s, study, claim->first});
    } else {
        auto next = db->query(fmt::format("select next_run, n_runs from studies where id = $1{}", db->shared() ? " for update" : ""), {study});
        std::int64_t first = next.empty() ? 0 : integer_of(next[0][0]), all = next.empty() ? 0 : integer_of(next[0][1]);
        if (first < all) {
            // not so much that others find nothing left, and less towards the end, so that all end at about the same time
            constexpr std::int64_t kShare = 8;
            claim = Claim{first, std::min({at_most, all - first, std::max(at_least, (all - first) / kShare)})};
            db->change("update studies set next_run = $1 where id = $2", {first + claim->n, study});
            db->change(fmt::format("insert into batches (study, first, n, owner, lease) values ($1, $2, $3, $4, {} + $5)", db->now()),
                       {study, first, claim->n, owner, lease_s});
        }
    }
    work.commit();
    return claim;
}

void StoreData::keep(std::int64_t study, const std::string& owner, const std::vector<StudyRow>& rows, const std::vector<Claim>& finished, double lease_s)
{
    Transaction work(*db);
    std::int64_t added = 0, failed = 0;
    std::string sql;
    std::vector<DbValue> values;
    for (const StudyRow& r : rows) {
        if (sql.empty()) {
            std::string names = "run, status, id, reason, seconds, steps, worker, recording", places = "$1, $2, $3, $4, $5, $6, $7, $8";
            for (std::size_t c = 0; c < r.values.size(); ++c) names += fmt::format(", c{}", c), places += fmt::format(", ${}", c + kHead + 1);
            sql = fmt::format("insert into {} ({}) values ({}) on conflict (run) do nothing", runs_table(study), names, places);
        }
        values = {r.run, r.status, r.id, r.reason, r.seconds, r.steps, r.worker, r.recording};
        for (double v : r.values) values.push_back(db_number(v));
        std::int64_t one = db->change(sql, values);
        added += one;
        if (r.status != "done") failed += one;
    }
    if (added > 0) db->change("update studies set n_done = n_done + $1, n_failed = n_failed + $2 where id = $3", {added, failed, study});
    for (const Claim& c : finished) db->change("delete from batches where study = $1 and first = $2 and owner = $3", {study, c.first, owner});
    db->change(fmt::format("update batches set lease = {} + $1 where study = $2 and owner = $3", db->now()), {lease_s, study, owner});
    work.commit();
}

void StoreData::release(std::int64_t study, const std::string& owner)
{
    db->change("update batches set lease = 0 where study = $1 and owner = $2", {study, owner});
}

std::vector<std::string> StoreData::owners(std::int64_t study)
{
    std::vector<std::string> list;
    for (const DbRow& r : db->query("select distinct owner from batches where study = $1", {study})) list.push_back(text_of(r[0]));
    return list;
}

std::vector<std::int64_t> StoreData::done_within(std::int64_t study, const Claim& claim)
{
    std::vector<std::int64_t> list;
    for (const DbRow& r : db->query(fmt::format("select run from {} where run >= $1 and run < $2", runs_table(study)), {claim.first, claim.first + claim.n}))
        list.push_back(integer_of(r[0]));
    return list;
}

void StoreData::set_recording(std::int64_t study, std::int64_t run, const std::string& recording)
{
    db->change(fmt::format("update {} set recording = $1 where run = $2", runs_table(study)), {recording, run});
}

void StoreData::keep_recording(std::int64_t study, std::int64_t run, const std::string& file)
{
    std::ifstream from(file, std::ios::binary);
    std::int64_t bytes = 0;
    Transaction work(*db);
    drop_recordings(*db, "study = $1 and run = $2", {study, run});
    const std::int64_t object = db->keep_object([&] {
        std::string piece(Database::kPiece, '\0');
        from.read(piece.data(), static_cast<std::streamsize>(piece.size()));
        piece.resize(static_cast<std::size_t>(from.gcount()));
        bytes += static_cast<std::int64_t>(piece.size());
        return piece;
    });
    if (bytes == 0 || from.bad()) throw StoreError("store-refused", fmt::format("store '{}': the recording '{}' cannot be read", where, file));
    db->change("insert into recording_objects (study, run, object, bytes) values ($1, $2, $3, $4)", {study, run, object, bytes});
    set_recording(study, run, "in the database");
    work.commit();
}

void Store::fetch_recording(std::int64_t study, std::int64_t run, const std::string& out)
{
    Transaction work(*data_->db, false);
    auto kept = data_->db->query("select object, bytes from recording_objects where study = $1 and run = $2", {study, run});
    if (kept.empty())
        throw StoreError("store-refused", fmt::format("store '{}' holds no recording of run {} of study {}", where(), run, study), "netloop rerun makes one");
    std::string bytes;
    data_->db->read_object(integer_of(kept[0][0]), [&](const std::string& piece) { bytes += piece; });
    if (static_cast<std::int64_t>(bytes.size()) != integer_of(kept[0][1]))
        throw StoreError("store-damaged",
                         fmt::format("store '{}': of the recording of run {} of study {} {} bytes of {} are there", where(), run, study, bytes.size(),
                                     integer_of(kept[0][1])),
                         "netloop rerun makes it again");
    work.commit();
    write_whole(out, bytes, {.what = "a recording", .replaces = is_recording});
}

}  // namespace netloop
