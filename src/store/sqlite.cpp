// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>
#include <sqlite3.h>

#include <chrono>
#include <cmath>
#include <filesystem>
#include <map>
#include <thread>

#include "store/database.hpp"

namespace netloop {
namespace {

constexpr int kWaitMs = 30'000;  // for others that write

class Sqlite : public Database {
public:
    Sqlite(const std::string& path, bool create) : path_(path)
    {
        int flags = SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX | (create ? SQLITE_OPEN_CREATE : 0);
        int code = sqlite3_open_v2(path.c_str(), &db_, flags, nullptr);
        if (code != SQLITE_OK) {
            StoreError error = error_of(code);
            sqlite3_close(db_);
            throw error;
        }
        try {
            sqlite3_busy_timeout(db_, kWaitMs);
            sqlite3_extended_result_codes(db_, 1);
            // of several that make a store at once, those that come second are turned away here without waiting
            auto begun = std::chrono::steady_clock::now();
            int mode = 0;
            while ((mode = sqlite3_exec(db_, "pragma journal_mode = wal", nullptr, nullptr, nullptr)) != SQLITE_OK) {
                if ((mode & 0xff) != SQLITE_BUSY || std::chrono::steady_clock::now() - begun > std::chrono::milliseconds(kWaitMs)) throw error_of(mode);
                std::this_thread::sleep_for(std::chrono::milliseconds(5));
            }
            script("pragma synchronous = normal; pragma foreign_keys = on");
        } catch (...) {
            sqlite3_close(db_);
            throw;
        }
    }
    ~Sqlite() override
    {
        for (auto& [sql, statement] : prepared_) sqlite3_finalize(statement);
        sqlite3_close(db_);
    }
    Sqlite(const Sqlite&) = delete;
    Sqlite& operator=(const Sqlite&) = delete;

    bool shared() const override { return false; }
    const char* now() const override { return "((julianday('now') - 2440587.5) * 86400.0)"; }
    const char* skip_locked() const override { return ""; }
    void begin(bool writes) override { script(writes ? "begin immediate" : "begin"); }
    void commit() override { script("commit"); }
    void rollback() noexcept override { sqlite3_exec(db_, "rollback", nullptr, nullptr, nullptr); }
    void reconnect() override {}

    void script(const std::string& sql) override { check(sqlite3_exec(db_, sql.c_str(), nullptr, nullptr, nullptr)); }

    std::int64_t run(const std::string& sql, const std::vector<DbValue>& values, const std::function<void(DbRow&)>& row) override
    {
        sqlite3_stmt*& s = prepared_[sql];
        if (s == nullptr) check(sqlite3_prepare_v3(db_, sql.c_str(), static_cast<int>(sql.size()), SQLITE_PREPARE_PERSISTENT, &s, nullptr));
        struct Reset {
            sqlite3_stmt* of;
            ~Reset()
            {
                sqlite3_reset(of);
                sqlite3_clear_bindings(of);
            }
        } reset{s};
        for (std::size_t i = 0; i < values.size(); ++i) {
            int at = static_cast<int>(i) + 1;
            if (const auto* n = std::get_if<std::int64_t>(&values[i]))
                check(sqlite3_bind_int64(s, at, *n));
            else if (const auto* x = std::get_if<double>(&values[i]))
                check(sqlite3_bind_double(s, at, *x));
            else if (const auto* t = std::get_if<std::string>(&values[i]))
                check(sqlite3_bind_text64(s, at, t->data(), t->size(), SQLITE_STATIC, SQLITE_UTF8));
            else if (const auto* b = std::get_if<DbBytes>(&values[i]))
                check(sqlite3_bind_blob64(s, at, b->bytes.data(), b->bytes.size(), SQLITE_STATIC));
            else
                check(sqlite3_bind_null(s, at));
        }
        int code = sqlite3_step(s);
        DbRow found(static_cast<std::size_t>(sqlite3_column_count(s)));
        for (; code == SQLITE_ROW; code = sqlite3_step(s)) {
            found.resize(static_cast<std::size_t>(sqlite3_column_count(s)));  // a row that was taken away is empty
            for (int c = 0; c < sqlite3_column_count(s); ++c) found[static_cast<std::size_t>(c)] = column(s, c);
            row(found);
        }
        if (code != SQLITE_DONE) throw error_of(code);
        return sqlite3_changes64(db_);
    }

    void make_objects() override
    {
        script("create table objects (object bigint not null, place bigint not null, body blob not null, primary key (object, place))");
    }
    std::int64_t keep_object(const std::function<std::string()>& next) override
    {
        const std::int64_t object = integer_of(query("select coalesce(max(object), 0) + 1 from objects")[0][0]);
        std::int64_t place = 0;
        for (std::string piece = next(); !piece.empty() || place == 0; piece = next())
            change("insert into objects (object, place, body) values ($1, $2, $3)", {object, place++, DbBytes{std::move(piece)}});
        return object;
    }
    void read_object(std::int64_t object, const std::function<void(const std::string&)>& piece) override
    {
        run("select body from objects where object = $1 order by place", {object}, [&](DbRow& r) { piece(bytes_of(r[0])); });
    }
    void drop_object(std::int64_t object) override { change("delete from objects where object = $1", {object}); }
    bool has_object(std::int64_t object) override { return !query("select 1 from objects where object = $1 limit 1", {object}).empty(); }

private:
    static DbValue column(sqlite3_stmt* s, int c)
    {
        switch (sqlite3_column_type(s, c)) {
            case SQLITE_INTEGER:
                return static_cast<std::int64_t>(sqlite3_column_int64(s, c));
            case SQLITE_FLOAT:
                return sqlite3_column_double(s, c);
            case SQLITE_NULL:
                return std::monostate{};
            case SQLITE_BLOB: {
                const auto* bytes = static_cast<const char*>(sqlite3_column_blob(s, c));
                return DbBytes{std::string(bytes == nullptr ? "" : bytes, static_cast<std::size_t>(sqlite3_column_bytes(s, c)))};
            }
            default: {
                const auto* text = static_cast<const char*>(sqlite3_column_blob(s, c));
                return std::string(text == nullptr ? "" : text, static_cast<std::size_t>(sqlite3_column_bytes(s, c)));
            }
        }
    }

    void check(int code)
    {
        if (code != SQLITE_OK) throw error_of(code);
    }

    StoreError error_of(int code) const
    {
        std::string why = db_ != nullptr ? sqlite3_errmsg(db_) : sqlite3_errstr(code);
        auto told = [&](const char* id, const std::string& what, const std::string& mend) {
            return StoreError(id, fmt::format("store '{}': {}", path_, what), mend);
        };
        switch (code & 0xff) {
            case SQLITE_FULL:
                return told("store-full", "the disk is full; what was stored before is kept", "make room and go on with --resume");
            case SQLITE_IOERR:
                return told("store-full", fmt::format("it cannot be written: {}; what was stored before is kept", why),
                            "look at the disk, and go on with --resume");
            case SQLITE_BUSY:
            case SQLITE_LOCKED:
                return told("store-busy", fmt::format("another program has been writing to it for more than {} s", kWaitMs / 1000), "");
            case SQLITE_NOTADB:
                return told("store-refused", "the file is no SQLite database", "name another file: nothing is written over");
            case SQLITE_CORRUPT:
                return told("store-damaged", fmt::format("the file is damaged: {}", why), "");
            case SQLITE_READONLY:
                return told("store-refused", "it may not be written", "");
            case SQLITE_CANTOPEN:
                return told("store-refused", std::filesystem::exists(path_) ? "it cannot be opened" : "there is no such file, or its folder is not there", "");
            default:
                return told("store-damaged", why, "");
        }
    }

    std::string path_;
    sqlite3* db_ = nullptr;
    std::map<std::string, sqlite3_stmt*> prepared_;
};

}  // namespace

std::unique_ptr<Database> open_sqlite(const std::string& path, bool create)
{
    return std::make_unique<Sqlite>(path, create);
}

std::int64_t integer_of(const DbValue& v)
{
    if (const auto* n = std::get_if<std::int64_t>(&v)) return *n;
    if (const auto* x = std::get_if<double>(&v)) return static_cast<std::int64_t>(*x);
    if (const auto* t = std::get_if<std::string>(&v)) return std::strtoll(t->c_str(), nullptr, 10);
    return 0;
}

const std::string& bytes_of(const DbValue& v)
{
    static const std::string kNone;
    const auto* b = std::get_if<DbBytes>(&v);
    return b != nullptr ? b->bytes : kNone;
}

double number_of(const DbValue& v)
{
    if (const auto* x = std::get_if<double>(&v)) return *x;
    if (const auto* n = std::get_if<std::int64_t>(&v)) return static_cast<double>(*n);
    if (const auto* t = std::get_if<std::string>(&v)) return std::strtod(t->c_str(), nullptr);
    return std::nan("");
}

std::string text_of(const DbValue& v)
{
    if (const auto* t = std::get_if<std::string>(&v)) return *t;
    if (const auto* n = std::get_if<std::int64_t>(&v)) return std::to_string(*n);
    if (const auto* x = std::get_if<double>(&v)) return fmt::format("{}", *x);
    return {};
}

DbValue db_number(double x)
{
    if (std::isnan(x)) return std::monostate{};
    return x;
}

}  // namespace netloop
