// SPDX-License-Identifier: Apache-2.0
// A database as this library sees one: prepared statements, values, transactions. Two of them: SQLite and PostgreSQL.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <variant>
#include <vector>

#include "netloop/store.hpp"

namespace netloop {

/// Bytes of any kind; texts hold none that are 0.
struct DbBytes {
    std::string bytes;
};
using DbValue = std::variant<std::monostate, std::int64_t, double, std::string, DbBytes>;
using DbRow = std::vector<DbValue>;

/// Statements hold `$1`, `$2` ... in the order in which they first appear; what stands for them is never part of a statement's text. Each text is prepared
/// once. Throws StoreError.
class Database {
public:
    virtual ~Database() = default;
    virtual bool shared() const = 0;
    /// Statements of our own, without values.
    virtual void script(const std::string& sql) = 0;
    /// Calls `row` for each row of the result; gives how many rows were changed. The row is `row`'s only for the time of the call.
    virtual std::int64_t run(const std::string& sql, const std::vector<DbValue>& values, const std::function<void(DbRow&)>& row) = 0;
    /// `writes`: other writers wait from here on, not at the first statement that writes.
    virtual void begin(bool writes = true) = 0;
    virtual void commit() = 0;
    virtual void rollback() noexcept = 0;
    /// After "store-unreachable": once more.
    virtual void reconnect() = 0;
    /// The time as the database has it, in s since 1970: an expression.
    virtual const char* now() const = 0;
    /// Behind a select whose rows are to be changed: only rows that nobody else is changing.
    virtual const char* skip_locked() const = 0;

    // --- objects: long bytes beside the tables, kept and read piece by piece. Large objects of PostgreSQL (they belong to the role that kept them),
    // pieces in a table of its own in SQLite. A row of ours names each by its number; call these within a transaction with that row's change.
    /// What they need, in a new store.
    virtual void make_objects() = 0;
    /// `next` gives a piece of at most `kPiece` bytes, nothing at the end. Gives the object's number.
    virtual std::int64_t keep_object(const std::function<std::string()>& next) = 0;
    virtual void read_object(std::int64_t object, const std::function<void(const std::string&)>& piece) = 0;
    virtual void drop_object(std::int64_t object) = 0;
    virtual bool has_object(std::int64_t object) = 0;
    static constexpr std::size_t kPiece = 1 << 20;  ///< bytes

    std::vector<DbRow> query(const std::string& sql, const std::vector<DbValue>& values = {})
    {
        std::vector<DbRow> rows;
        run(sql, values, [&](DbRow& row) { rows.push_back(std::move(row)); });
        return rows;
    }
    std::int64_t change(const std::string& sql, const std::vector<DbValue>& values = {})
    {
        return run(sql, values, [](DbRow&) {});
    }
};

std::unique_ptr<Database> open_sqlite(const std::string& path, bool create);
/// "postgresql://..." as libpq takes it. Tables stand in the schema `netloop`.
std::unique_ptr<Database> open_postgresql(const std::string& where);

/// An address as it may be shown.
std::string without_password(const std::string& where);

/// Of a value that is there.
std::int64_t integer_of(const DbValue& v);
const std::string& bytes_of(const DbValue& v);
/// NaN for none.
double number_of(const DbValue& v);
std::string text_of(const DbValue& v);
/// NaN as none.
DbValue db_number(double x);

/// Rolled back unless it was committed.
class Transaction {
public:
    explicit Transaction(Database& db, bool writes = true) : db_(db) { db_.begin(writes); }
    ~Transaction()
    {
        if (!done_) db_.rollback();
    }
    Transaction(const Transaction&) = delete;
    Transaction& operator=(const Transaction&) = delete;
    void commit()
    {
        db_.commit();
        done_ = true;
    }

private:
    Database& db_;
    bool done_ = false;
};

}  // namespace netloop
