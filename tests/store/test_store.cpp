// SPDX-License-Identifier: Apache-2.0
// The store in both databases: what goes in comes out, older forms are brought up to date, nothing is lost.
#include <doctest/doctest.h>

#include <fmt/format.h>

#include <filesystem>

#include "store/filter.hpp"
#include "store/schema.hpp"
#include "store/store_data.hpp"
#include "support/servers.hpp"

namespace nl = netloop;
using nl::StudyColumn;

TEST_SUITE_BEGIN("store");

namespace {

nl::StudyRecord record_with(std::int64_t n)
{
    nl::StudyRecord s;
    s.name = "Robert'); drop table studies; --";
    s.system = "\"quoted\" 'system'";
    s.version = "0.5.0";
    s.plan = "so many";
    s.texts = "abc";
    s.take = "sobol";
    s.n_runs = n;
    s.columns = {{.name = "pump", .levels = {"p60", "p90'--"}, .titles = {"a", "b"}},
                 {.name = "outside", .unit = "degC", .scale = 1, .offset = 273.15},
                 {.kind = StudyColumn::Kind::measure, .name = "peak", .unit = "bar", .scale = 1e5},
                 {.kind = StudyColumn::Kind::demand, .name = "it holds; delete from studies", .unit = "bool"}};
    return s;
}

nl::StudyRow row_with(std::int64_t run, double peak)
{
    return {run, "done", "", "", 0.01, 7, "w", "", {static_cast<double>(run % 2), 280.0 + static_cast<double>(run), peak, 1}};
}

void all_of_it(nl::Store store)
{
    nl::StoreData& data = store.data();
    std::int64_t id = data.add_study(record_with(100), {{"a'b.loop", "system X { }\n"}, {"t.csv", "1,2\n"}}, "{}", "print'; drop");
    nl::StudyRecord s = store.study(id);
    CHECK(s.name == "Robert'); drop table studies; --");
    CHECK(s.columns[0].levels[1] == "p90'--");
    CHECK(s.columns[1].offset == 273.15);
    auto texts = store.texts(s);
    REQUIRE(texts.size() == 2);
    CHECK(texts[0].file == "a'b.loop");
    CHECK(texts[1].text == "1,2\n");
    CHECK(data.unfinished("print'; drop") == id);

    // claims are given once; what is left in one goes to whoever comes when the lease is over
    auto a = data.claim(id, "a", 10, 10, 100), b = data.claim(id, "b", 10, 10, 100);
    REQUIRE((a && b));
    CHECK(a->first == 0);
    CHECK(b->first == 10);
    std::vector<nl::StudyRow> rows;
    for (std::int64_t r = 0; r < 5; ++r) rows.push_back(row_with(r, 1e5 * (1.0 / 3 + static_cast<double>(r))));
    rows[2].status = "failed", rows[2].id = "run-failed", rows[2].reason = "it's \"over\"\n", rows[2].values[2] = NAN;
    data.keep(id, "a", rows, {}, 100);
    data.keep(id, "a", rows, {}, 100);  // once more: as it was
    s = store.study(id);
    CHECK(s.n_done == 5);
    CHECK(s.n_failed == 1);
    CHECK(data.done_within(id, *a) == std::vector<std::int64_t>{0, 1, 2, 3, 4});
    data.release(id, "a");
    auto again = data.claim(id, "c", 10, 10, 100);
    REQUIRE(again);
    CHECK(again->first == 0);
    CHECK(data.owners(id).size() == 2);
    rows.clear();
    for (std::int64_t r = 5; r < 10; ++r) rows.push_back(row_with(r, 3e5 - 1e4 * static_cast<double>(r)));
    data.keep(id, "c", rows, {*again}, 100);
    CHECK(data.owners(id) == std::vector<std::string>{"b"});

    auto found = store.rows(s, {.sort = "peak"});
    REQUIRE(found.size() == 10);
    CHECK(found[0].values[2] == 1e5 * (1.0 / 3));  // every bit
    CHECK(std::isnan(found.back().values[2]));     // what has no value is last, whichever way
    CHECK(std::isnan(store.rows(s, {.sort = "peak", .descending = true}).back().values[2]));
    CHECK(store.rows(s, {.sort = "peak", .descending = true, .most = 1})[0].run == 4);
    CHECK(store.rows(s, {.run = 2})[0].reason == "it's \"over\"\n");
    CHECK(store.rows(s, {.where = "pump is p60 and peak > 0.5 bar"}).size() == 3);
    CHECK(store.rows(s, {.where = "outside < 10 degC or failed"}).size() == 4);
    CHECK(store.check().empty());

    CHECK(store.publish({"pumps", "p'1", "t", "K", "B", 1, "", "", "K(a = 1)"}) == 1);
    CHECK(store.publish({"pumps", "p'1", "t", "K", "B", 1, "", "", "K(a = 1)"}) == 1);
    CHECK(store.publish({"pumps", "p'1", "t", "K", "B", 1, "", "", "K(a = 2)"}) == 2);
    CHECK(store.entries("pumps").size() == 1);
    CHECK(store.entries("pumps")[0].text == "K(a = 2)");
    CHECK(store.entries("pumps", true).size() == 2);
    CHECK(store.entries("'; drop table entries; --").empty());

    test::Scratch scratch;
    std::string bytes(3'000'001, 'x');
    for (std::size_t i = 0; i < bytes.size(); ++i) bytes[i] = static_cast<char>(i * 7 % 256);
    test::write_file(scratch / "r.h5", bytes);
    data.keep_recording(id, 3, scratch / "r.h5");
    store.fetch_recording(id, 3, scratch / "out.h5");
    CHECK(test::read_file(scratch / "out.h5") == bytes);
    CHECK_THROWS_AS(store.fetch_recording(id, 4, scratch / "none.h5"), nl::StoreError);

    // one object in the place of the other; what is gone is told; none is left behind
    const char* const count = data.db->shared() ? "select count(*) from pg_largeobject_metadata" : "select count(distinct object) from objects";
    auto objects = [&] { return nl::integer_of(data.db->query(count)[0][0]); };
    CHECK(objects() == 1);
    bytes.resize(std::size_t{1} << 20U);  // just one piece
    test::write_file(scratch / "short.h5", bytes);
    data.keep_recording(id, 3, scratch / "short.h5");
    data.keep_recording(id, 5, scratch / "r.h5");
    store.fetch_recording(id, 3, scratch / "out2.h5");
    CHECK(test::read_file(scratch / "out2.h5") == bytes);
    CHECK(objects() == 2);
    CHECK(store.check().empty());
    CHECK_THROWS_WITH_AS(data.keep_recording(id, 3, scratch / "none.h5"), doctest::Contains("cannot be read"), nl::StoreError);
    store.fetch_recording(id, 3, scratch / "out3.h5");  // a change that fails leaves what was there
    CHECK(test::read_file(scratch / "out3.h5") == bytes);
    {
        nl::Transaction work(*data.db);
        data.db->drop_object(nl::integer_of(data.db->query("select object from recording_objects where run = 5")[0][0]));
        work.commit();
    }
    CHECK(store.check() == std::vector<std::string>{fmt::format("study {}: the recording of run 5 is gone", id)});
    CHECK_THROWS_AS(store.fetch_recording(id, 5, scratch / "out5.h5"), nl::StoreError);
    data.db->change("delete from recording_objects where run = 5");

    store.remove(id);
    CHECK(objects() == 0);
    CHECK(store.studies().empty());
    CHECK_THROWS_WITH_AS(store.study(id), doctest::Contains("has no study"), nl::StoreError);
    CHECK(store.check().empty());
}

}  // namespace

TEST_CASE("SQLite: what goes in comes out")
{
    test::Scratch scratch;
    all_of_it(nl::Store::open(scratch / "it's a store.sqlite"));
}

TEST_CASE("PostgreSQL: what goes in comes out; a wrong password is told")
{
    test::Postgres server;
    if (!server.there()) {
        MESSAGE("left out: PostgreSQL is not installed (Debian: postgresql)");
        return;
    }
    all_of_it(nl::Store::open(server.url()));
    try {
        nl::Store::open(server.url("wrong"));
        FAIL("a wrong password was taken");
    } catch (const nl::StoreError& error) {
        CHECK(error.id() == "store-refused");
        CHECK(std::string(error.what()).find("password authentication failed") != std::string::npos);
        CHECK(std::string(error.what()).find("wrong@") == std::string::npos);
        CHECK(error.hint().find("PGPASSWORD") != std::string::npos);
    }
    // a store that is made by several at once is made once
    server.ask("drop schema netloop cascade");
    std::vector<std::string> ends(6);
    std::string commands;
    for (int k = 0; k < 6; ++k) commands += std::string(std::getenv("NETLOOP_PROGRAM")) + " store check '" + server.url() + "' & ";
    CHECK(test::shell(commands + "wait").err == "");
}

TEST_CASE("a store of an older form is brought up to date, a newer one refused, another file left alone")
{
    test::Scratch scratch;
    std::string path = scratch / "old.sqlite";
    {
        auto db = nl::open_sqlite(path, true);
        nl::bring_up_to(*db, path, 1);
        db->script("insert into texts values ('h', 'system X { }')");
        CHECK_THROWS_AS(db->query("select * from entries"), nl::StoreError);
    }
    {
        nl::Store store = nl::Store::open(path);
        CHECK(store.entries().empty());
        CHECK(nl::text_of(store.data().db->query("select body from texts")[0][0]) == "system X { }");
    }
    // a recording that an older form kept as hexadecimal digits
    std::string older = scratch / "older.sqlite";
    {
        auto db = nl::open_sqlite(older, true);
        nl::bring_up_to(*db, older, 2);
        db->script(
            "insert into studies values (1, 'n', 'S', 'a', 'c', 'v', 'p', 'a', 'm', 't', 0, 9, 0, 0, 0, '[]', '{}', 'f'); "
            "insert into recordings values (1, 4, 1, '4c6f6f70'), (1, 4, 0, '4e657420')");
    }
    {
        nl::Store store = nl::Store::open(older);
        auto kept = store.data().db->query("select object, bytes from recording_objects where study = 1 and run = 4");
        REQUIRE(kept.size() == 1);
        CHECK(nl::integer_of(kept[0][1]) == 8);
        store.fetch_recording(1, 4, scratch / "moved.h5");
        CHECK(test::read_file(scratch / "moved.h5") == "Net Loop");
        CHECK_THROWS_AS(store.data().db->query("select * from recordings"), nl::StoreError);
    }
    test::shell("sqlite3 " + path + " \"update netloop_store set value = '99'\"");
    try {
        nl::Store::open(path);
        FAIL("a newer store was opened");
    } catch (const nl::StoreError& error) {
        CHECK(error.id() == "store-newer");
        CHECK(std::string(error.what()).find("version 99, this one knows 3") != std::string::npos);
    }
    test::write_file(scratch / "letter.txt", "Dear Sir,\n");
    CHECK_THROWS_WITH_AS(nl::Store::open(scratch / "letter.txt"), doctest::Contains("is no SQLite database"), nl::StoreError);
    CHECK(test::read_file(scratch / "letter.txt") == "Dear Sir,\n");
    CHECK_THROWS_WITH_AS(nl::Store::open_existing(scratch / "none.sqlite"), doctest::Contains("there is no store"), nl::StoreError);
    CHECK_THROWS_WITH_AS(nl::Store::open("mysql://host/x"), doctest::Contains("is no store"), nl::UsageError);
    // cut short
    std::string bytes = test::read_file(path);
    test::write_file(path, bytes.substr(0, bytes.size() / 2));
    CHECK_THROWS_AS(nl::Store::open(path).check(), nl::StoreError);
}

TEST_CASE("filters: units, words, precedence, and what is wrong with them")
{
    nl::StudyRecord s = record_with(10);
    nl::StudyRow r = row_with(3, 2.2e7);  // 220 bar, pump 1, 283 K
    auto holds = [&](const char* text) { return nl::RowFilter(text, s).holds(r); };
    CHECK(holds("peak > 210 bar"));
    CHECK(!holds("peak > 210 bar and pump == p60"));
    CHECK(holds("pump != p60"));
    CHECK(holds("peak / (2 bar) == 110"));
    CHECK(holds("not (peak < 1 MPa) and outside > 9 degC"));
    CHECK(holds("-peak + 10 bar < -200 bar or run > 5"));
    CHECK(holds("seconds < 20 ms and steps == 7"));
    CHECK(!holds("failed"));
    r.values[2] = NAN;
    CHECK(!holds("peak > 210 bar"));
    CHECK(!holds("peak < 210 bar"));
    CHECK(!holds("peak != 210 bar"));
    auto said = [&](const char* text) {
        try {
            nl::RowFilter filter(text, s);
        } catch (const nl::UsageError& error) {
            return std::string(error.what());
        }
        return std::string();
    };
    CHECK(said("peak > 210").find("different units") != std::string::npos);
    CHECK(said("peek > 210 bar").find("did you mean 'peak'?") != std::string::npos);
    CHECK(said("pump is p70").find("'p70' is no value of 'pump'") != std::string::npos);
    CHECK(said("peak").find("is no condition") != std::string::npos);
    CHECK(said("peak > ").find("--where") != std::string::npos);
    CHECK(said("max(peak, 1 bar) > 2 bar").find("cannot stand in a condition on rows") != std::string::npos);
    CHECK(said("run; drop table studies").find("error") != std::string::npos);
    CHECK(said("peak + outside > 3 bar").find("adds different units") != std::string::npos);
    CHECK(said("peak is p60").find("has numbers, not words") != std::string::npos);
}

TEST_CASE("a full disk is told, what was stored is kept, and the study goes on")
{
    test::Scratch scratch;
    std::string model = test::source_path("examples/bascule/studies/gains.loop");
    std::string store = scratch / "s.sqlite", program = std::getenv("NETLOOP_PROGRAM");
    // a limit on the size of files stands for the disk: some 100 KiB
    test::Outcome o = test::shell("ulimit -f 96; " + program + " study " + model + " weights --quiet --store " + store);
    CHECK(o.code == 1);
    CHECK(o.err.find("what was stored before is kept") != std::string::npos);
    CHECK(test::shell(program + " store check " + store).out.find("sound") != std::string::npos);
    o = test::shell(program + " study " + model + " weights --quiet --resume --store " + store);
    if (o.err.find("no study 'weights' to go on with") != std::string::npos) o = test::shell(program + " study " + model + " weights --quiet --store " + store);
    CHECK(o.code == 0);
    CHECK(test::shell(program + " store check " + store).out.find("sound") != std::string::npos);
}
