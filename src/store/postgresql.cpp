// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>
#include <libpq-fe.h>

#include <map>

#include "store/database.hpp"

namespace netloop {
namespace {

// So that a server that went away is noticed, and one that is not there does not hold a study up: asked for unless the user's text says something.
constexpr const char* kWaits[][2] = {{"connect_timeout", "10"}, {"tcp_user_timeout", "20000"}, {"application_name", "netloop"}, {"client_encoding", "UTF8"}};

struct Result {
    PGresult* r = nullptr;
    explicit Result(PGresult* of) : r(of) {}
    ~Result() { PQclear(r); }
    Result(const Result&) = delete;
    Result& operator=(const Result&) = delete;
};

std::string first_line(std::string text)
{
    if (auto end = text.find('\n'); end != std::string::npos) text.resize(end);
    return text;
}

class Postgres : public Database {
public:
    explicit Postgres(std::string where) : where_(std::move(where)), told_(without_password(where_)) { connect(); }
    ~Postgres() override { PQfinish(db_); }
    Postgres(const Postgres&) = delete;
    Postgres& operator=(const Postgres&) = delete;

    bool shared() const override { return true; }
    const char* now() const override { return "cast(extract(epoch from clock_timestamp()) as double precision)"; }
    const char* skip_locked() const override { return " for update skip locked"; }
    void begin(bool) override { script("begin"); }
    void commit() override { script("commit"); }
    void rollback() noexcept override { PQclear(PQexec(db_, "rollback")); }

    void reconnect() override
    {
        PQfinish(db_);
        db_ = nullptr;
        prepared_.clear();
        connect();
    }

    void script(const std::string& sql) override
    {
        Result done(PQexec(db_, sql.c_str()));
        check(done.r);
    }

    std::int64_t run(const std::string& sql, const std::vector<DbValue>& values, const std::function<void(DbRow&)>& row) override
    {
        auto [it, fresh] = prepared_.emplace(sql, fmt::format("n{}", prepared_.size()));
        if (fresh) {
            Result prepared(PQprepare(db_, it->second.c_str(), sql.c_str(), 0, nullptr));
            if (PQresultStatus(prepared.r) != PGRES_COMMAND_OK) prepared_.erase(it);
            check(prepared.r);
        }
        std::vector<std::string> texts(values.size());
        std::vector<const char*> given(values.size(), nullptr);
        std::vector<int> lengths(values.size(), 0), binary(values.size(), 0);
        for (std::size_t i = 0; i < values.size(); ++i) {
            if (std::holds_alternative<std::monostate>(values[i])) continue;
            if (const auto* b = std::get_if<DbBytes>(&values[i])) {
                given[i] = b->bytes.data(), lengths[i] = static_cast<int>(b->bytes.size()), binary[i] = 1;
                continue;
            }
            if (const auto* x = std::get_if<double>(&values[i]))
                texts[i] = fmt::format("{}", *x);  // as short as it is exact
            else
                texts[i] = text_of(values[i]);
            if (texts[i].find('\0') != std::string::npos)
                throw StoreError("store-refused", fmt::format("store '{}': a text with a zero byte cannot be kept", told_));
            given[i] = texts[i].c_str();
        }
        Result done(PQexecPrepared(db_, prepared_.at(sql).c_str(), static_cast<int>(values.size()), given.data(), lengths.data(), binary.data(), 0));
        check(done.r);
        int n = PQntuples(done.r), columns = PQnfields(done.r);
        DbRow found;
        for (int i = 0; i < n; ++i) {
            found.resize(static_cast<std::size_t>(columns));
            for (int c = 0; c < columns; ++c) found[static_cast<std::size_t>(c)] = value(done.r, i, c);
            row(found);
        }
        const char* changed = PQcmdTuples(done.r);
        return *changed == '\0' ? 0 : std::strtoll(changed, nullptr, 10);
    }

    void make_objects() override {}
    std::int64_t keep_object(const std::function<std::string()>& next) override
    {
        std::string piece = next();
        auto at = static_cast<std::int64_t>(piece.size());
        const std::int64_t object = integer_of(query("select cast(lo_from_bytea(0, $1) as bigint)", {DbBytes{std::move(piece)}})[0][0]);
        for (piece = next(); !piece.empty(); piece = next()) {
            auto length = static_cast<std::int64_t>(piece.size());
            query("select 1 from lo_put(cast($1 as oid), $2, $3)", {object, at, DbBytes{std::move(piece)}});
            at += length;
        }
        return object;
    }
    void read_object(std::int64_t object, const std::function<void(const std::string&)>& piece) override
    {
        const auto most = static_cast<std::int64_t>(kPiece);
        for (std::int64_t at = 0;; at += most) {
            const auto rows = query("select lo_get(cast($1 as oid), $2, $3)", {object, at, most});
            const std::string& bytes = bytes_of(rows[0][0]);
            if (!bytes.empty()) piece(bytes);
            if (bytes.size() < kPiece) return;
        }
    }
    void drop_object(std::int64_t object) override { query("select lo_unlink(cast($1 as oid))", {object}); }
    bool has_object(std::int64_t object) override { return !query("select 1 from pg_largeobject_metadata where oid = cast($1 as oid)", {object}).empty(); }

private:
    static DbValue value(const PGresult* r, int i, int c)
    {
        constexpr Oid kBytes = 17, kInt8 = 20, kInt4 = 23, kFloat8 = 701;
        if (PQgetisnull(r, i, c) != 0) return std::monostate{};
        const char* text = PQgetvalue(r, i, c);
        Oid type = PQftype(r, c);
        if (type == kInt8 || type == kInt4) return static_cast<std::int64_t>(std::strtoll(text, nullptr, 10));
        if (type == kFloat8) return std::strtod(text, nullptr);
        if (type == kBytes) {
            std::size_t length = 0;
            std::unique_ptr<unsigned char, decltype(&PQfreemem)> bytes(PQunescapeBytea(reinterpret_cast<const unsigned char*>(text), &length), PQfreemem);
            if (bytes == nullptr) throw std::bad_alloc();
            return DbBytes{std::string(reinterpret_cast<const char*>(bytes.get()), length)};
        }
        return std::string(text, static_cast<std::size_t>(PQgetlength(r, i, c)));
    }

    void connect()
    {
        std::vector<const char*> names, values;
        for (const auto& w : kWaits) names.push_back(w[0]), values.push_back(w[1]);
        names.push_back("dbname"), values.push_back(where_.c_str());  // what it says goes before the others
        names.push_back(nullptr), values.push_back(nullptr);
        db_ = PQconnectdbParams(names.data(), values.data(), 1);
        if (PQstatus(db_) != CONNECTION_OK) {
            std::string why = PQerrorMessage(db_);
            PQfinish(db_);
            db_ = nullptr;
            bool refused = why.find("authentication failed") != std::string::npos || why.find("no password supplied") != std::string::npos ||
                           why.find("does not exist") != std::string::npos || why.find("permission denied") != std::string::npos;
            throw StoreError(refused ? "store-refused" : "store-unreachable", fmt::format("store '{}': {}", told_, first_line(why)),
                             why.find("password") != std::string::npos ? "a password may stand in PGPASSWORD or in ~/.pgpass" : "");
        }
        PQsetNoticeProcessor(
            db_, [](void*, const char*) {}, nullptr);
        // `if not exists` alone is not safe from several that come at once
        script("begin; select pg_advisory_xact_lock(7065126); create schema if not exists netloop; commit; set search_path = netloop");
    }

    void check(const PGresult* r)
    {
        ExecStatusType status = PQresultStatus(r);
        if (r != nullptr && (status == PGRES_COMMAND_OK || status == PGRES_TUPLES_OK)) return;
        std::string why = r != nullptr ? PQresultErrorMessage(r) : PQerrorMessage(db_);
        if (why.empty()) why = PQerrorMessage(db_);
        const char* state = r != nullptr ? PQresultErrorField(r, PG_DIAG_SQLSTATE) : nullptr;
        std::string code = state != nullptr ? state : "";
        // what has no code of the server comes from the connection: libpq may still call it sound at that moment
        bool away = PQstatus(db_) != CONNECTION_OK || code.empty() || code.starts_with("57P") || code.starts_with("08");
        bool full = code == "53100", again = code == "40001" || code == "40P01";
        throw StoreError(away                                                  ? "store-unreachable"
                         : full                                                ? "store-full"
                         : again                                               ? "store-busy"
                         : code.starts_with("42501") || code.starts_with("28") ? "store-refused"
                                                                               : "store-damaged",
                         fmt::format("store '{}': {}", told_, first_line(why)));
    }

    std::string where_, told_;
    PGconn* db_ = nullptr;
    std::map<std::string, std::string> prepared_;
};

}  // namespace

std::unique_ptr<Database> open_postgresql(const std::string& where)
{
    return std::make_unique<Postgres>(where);
}

std::string without_password(const std::string& where)
{
    std::size_t begin = where.find("://"), at = where.find('@');
    if (begin == std::string::npos || at == std::string::npos) return where.substr(0, where.find("password="));
    std::size_t colon = where.find(':', begin + 3);
    return colon < at ? where.substr(0, colon) + where.substr(at) : where;
}

}  // namespace netloop
