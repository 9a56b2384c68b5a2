// SPDX-License-Identifier: Apache-2.0
// Catalogues and studies as they are written, planned and run. The machine is a mass on a spring: its frequency is sqrt(k/m) / 2 pi, its damping known.
#include <doctest/doctest.h>

#include <atomic>
#include <filesystem>
#include <numbers>
#include <set>
#include <thread>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("study");

namespace {

const std::string kMachine =
    "base component Spring { input x : m ; output f : N ; param stiffness : N/m = 100 N/m in 1 N/m .. 1e5 N/m }\n"
    "component Linear : Spring { f = stiffness * x }\n"
    "component Stiffening : Spring { param cubic : N/m^3 = 10 N/m^3 ; option doubled = false ; f = (if doubled then 2 else 1) * (stiffness * x + cubic * x^3) "
    "}\n"
    "component Mapped : Spring { table law(x : m) -> N { -1 : -100, 1 : 100 } ; f = law(x) }\n"
    "component Other { param q : 1 = 1 }\n"
    "system Bob {\n"
    "  param mass : kg = 2 kg in 0.01 kg .. 100 kg ; param drag : N*s/m = 0 N*s/m in 0 N*s/m .. 1e3 N*s/m ; param warm : degC = 20 degC\n"
    "  option twice = false\n"
    "  slot spring : Spring = Linear()\n"
    "  var x : m init 0.1 m ; x -> spring.x\n"
    "  mass * x'' = -(if twice then 2 else 1) * spring.f - drag * x' ; init x' = 0 m/s\n}\n"
    "scenario swing of Bob { stop at 2 s ; tolerance 1e-8\n"
    "  measure half : s = first(time when x < 0 m) ; measure lowest : mm = min(x) ; require lowest < -50 mm \"it swings through\" }\n"
    "scenario quick from swing { stop at 0.2 s }\n";

struct Loaded {
    nl::Library library = nl::Library::standard();
    explicit Loaded(const std::string& text, const std::string& name = "bob.loop") { library.load_text(name, kMachine + text); }
};

nl::Study study_of(const std::string& text, const std::string& name = {})
{
    return nl::Study(Loaded(text).library, name);
}

std::string trouble_of(const std::string& text)
{
    try {
        study_of(text);
    } catch (const nl::ModelError& error) {
        return error.what();
    }
    return "";
}

// All rows by run.
std::vector<nl::StudyRow> rows_of(const nl::Study& study, unsigned jobs = 2)
{
    test::Scratch scratch;
    nl::Store store = nl::Store::open(scratch / "s.sqlite");
    nl::StudySummary done = nl::run_study(study, store, {.jobs = jobs});
    CHECK(done.complete);
    return store.rows(store.study(done.id));
}

// First zero of the swing, without drag.
double first_zero(double mass, double stiffness)
{
    return std::numbers::pi / 2 * std::sqrt(mass / stiffness);
}

}  // namespace

TEST_CASE("a grid over params gives what the formula gives")
{
    nl::Study study = study_of("study s of Bob from swing { vary mass over 1 kg, 2 kg, 4 kg ; vary spring.stiffness over 50 N/m .. 800 N/m in 5 on log }\n");
    CHECK(study.n_runs() == 15);
    CHECK(study.n_structures() == 1);
    CHECK(study.plan() == "full grid of 3 x 5: 15 runs");
    std::vector<nl::StudyRow> rows = rows_of(study);
    REQUIRE(rows.size() == 15);
    for (const nl::StudyRow& r : rows) {
        CHECK(r.status == "done");
        CHECK(r.values[2] == doctest::Approx(first_zero(r.values[0], r.values[1])).epsilon(1e-5));
        CHECK(r.values[4] == 1);
    }
    CHECK(rows[1].values[1] == doctest::Approx(100));  // on log: a factor of two each
    CHECK(rows[4].values[1] == 800);
    CHECK(study.varied_text(6) == "mass=2 kg, spring.stiffness=100 N/m");
}

TEST_CASE("catalogues: entries of the text and of a file are parts like any other")
{
    test::Scratch scratch;
    test::write_file(scratch / "springs.csv", "name,title,stiffness [N/mm],cubic [N/m^3],doubled\nsoft,\"Made of wire, soft\",0.05,0,false\nhard,,0.4,,true\n");
    test::write_file(scratch / "law.csv", "x [mm],law [N]\n-1000,-300\n1000,300\n");
    test::write_file(scratch / "bob.loop",
                     kMachine +
                         "catalogue springs : Spring {\n  s1 \"The first\" = Linear(stiffness = 200 N/m)\n  mapped = Mapped(law = \"law.csv\")\n"
                         "  from \"springs.csv\" as Stiffening\n}\n"
                         "scenario chosen from swing { put spring = springs.s1 }\n"
                         "study s of Bob from swing { vary spring over springs }\n"
                         "study t of Bob from swing { vary spring over springs.soft, Linear(stiffness = 300 N/m), Linear }\n");
    nl::Library library = nl::Library::standard();
    library.load_file(scratch / "bob.loop");
    std::vector<std::string> names;
    for (const auto& e : library.list("springs")) names.push_back(e.name + ": " + e.summary);
    CHECK(names == std::vector<std::string>{"springs.s1: The first", "springs.mapped: ", "springs.soft: Made of wire, soft", "springs.hard: "});
    CHECK(library.describe("springs.soft").find("Made of wire, soft") != std::string::npos);
    CHECK(library.describe("springs.s1").find("stiffness  200 N/m") != std::string::npos);
    nl::Run run(nl::compile(library, {.scenario = "chosen"}));
    run.simulate();
    CHECK(run.summary().measures[0].value == doctest::Approx(first_zero(2, 200)).epsilon(1e-5));

    nl::Study study(library, "s");
    std::vector<nl::StudyRow> rows = rows_of(study);
    const double stiffness[] = {200, 300, 50, 800};  // of the last one the cubic part is 10 N/m^3: 0.05 N of 80 N; its force is doubled
    for (std::size_t i = 0; i < 4; ++i) CHECK(rows[i].values[1] == doctest::Approx(first_zero(2, stiffness[i])).epsilon(2e-4));
    CHECK(study.columns()[0].levels == std::vector<std::string>{"s1", "mapped", "soft", "hard"});
    CHECK(study.columns()[0].titles[2] == "Made of wire, soft");

    nl::Study other(library, "t");
    CHECK(other.n_structures() == 3);  // what the one gives and the other leaves as it is makes them different machines
    rows = rows_of(other);
    CHECK(rows[1].values[1] == doctest::Approx(first_zero(2, 300)).epsilon(1e-5));
    CHECK(other.varied_text(1) == "spring=Linear(stiffness = 300 N/m)");
}

TEST_CASE("what is varied inside a part goes before what the entry brings")
{
    nl::Study study = study_of(
        "catalogue springs : Spring { a = Linear(stiffness = 200 N/m) ; b = Linear(stiffness = 300 N/m) }\n"
        "study s of Bob from swing { vary spring over springs ; vary spring.stiffness over 50 N/m, 400 N/m }\n");
    CHECK(study.n_structures() == 1);
    for (const nl::StudyRow& r : rows_of(study)) CHECK(r.values[2] == doctest::Approx(first_zero(2, r.values[1])).epsilon(1e-5));
}

TEST_CASE("options, scenarios and slots lead to machines of their own, compiled once each")
{
    nl::Study study = study_of(
        "study s of Bob { vary scenario over swing, quick ; vary twice over true, false ; vary spring over Linear, Stiffening() ; vary mass over 1 kg, 2 kg, 3 "
        "kg }\n");
    CHECK(study.n_runs() == 24);
    CHECK(study.n_structures() == 8);
    for (const nl::StudyRow& r : rows_of(study)) {
        bool quick = r.values[0] == 1;
        double mass = r.values[3], stiffness = r.values[1] == 0 ? 200 : 100, zero = first_zero(mass, stiffness);
        if (quick && zero > 0.2)
            CHECK(std::isnan(r.values[4]));
        else
            CHECK(r.values[4] == doctest::Approx(zero).epsilon(2e-3));
    }
}

TEST_CASE("one at a time: what is not changed is as it is without the study, parts and options too")
{
    std::string text =
        "catalogue springs : Spring { a = Linear(stiffness = 200 N/m) ; b = Stiffening(stiffness = 300 N/m, cubic = 0 N/m^3) }\n"
        "study s of Bob from swing { vary spring over springs ; vary twice over true, false ; vary scenario over swing, quick ; vary mass over 1 kg, 4 kg ; "
        "take 1 at a time }\n";
    nl::Study study = study_of(text);
    REQUIRE(study.n_runs() == 9);
    std::vector<nl::StudyRow> rows = rows_of(study);
    // the machine itself: a linear spring of 100 N/m, not twice, 2 kg, two seconds
    const double mass[] = {2, 2, 2, 2, 2, 2, 2, 1, 4}, stiffness[] = {100, 200, 300, 200, 100, 100, 100, 100, 100};
    for (std::size_t i = 0; i < 9; ++i) {
        INFO(i);
        if (i == 6)
            CHECK(std::isnan(rows[i].values[4]));  // 0.2 s are over before
        else
            CHECK(rows[i].values[4] == doctest::Approx(first_zero(mass[i], stiffness[i])).epsilon(1e-4));
    }
}

TEST_CASE("row by row: whole variants, of the text and out of a file")
{
    test::Scratch scratch;
    test::write_file(scratch / "variants.csv", "name,mass [g],weight\nlight,1000,7\nmiddle,2000,8\nheavy,4000,9\nanother,1500,1\n");
    test::write_file(
        scratch / "bob.loop",
        kMachine +
            "study s of Bob from swing {\n  vary spring over Linear(stiffness = 100 N/m), Stiffening(stiffness = 200 N/m, cubic = 0 N/m^3), Linear, "
            "Linear(stiffness = 400 N/m)\n"
            "  vary twice over false, false, true, false\n  vary mass over \"variants.csv\"\n  vary scenario over swing, swing, swing, quick\n"
            "  take row by row\n}\n");
    nl::Library library = nl::Library::standard();
    library.load_file(scratch / "bob.loop");
    nl::Study study(library);
    REQUIRE(study.n_runs() == 4);
    std::vector<nl::StudyRow> rows = rows_of(study);
    const double mass[] = {1, 2, 4, 1.5}, stiffness[] = {100, 200, 200, 400};
    for (std::size_t i = 0; i < 4; ++i) {
        INFO(i);
        CHECK(rows[i].values[2] == mass[i]);
        if (i == 3 && first_zero(mass[i], stiffness[i]) > 0.2)
            CHECK(std::isnan(rows[i].values[4]));
        else
            CHECK(rows[i].values[4] == doctest::Approx(first_zero(mass[i], stiffness[i])).epsilon(1e-4));
    }
    // many rows of several parts: not their product
    std::string springs, masses;
    for (int k = 0; k < 300; ++k) {
        springs += (k == 0 ? "" : ", ") + std::string(k % 2 == 0 ? "Linear" : "Stiffening");
        masses += fmt::format("{}{} kg", k == 0 ? "" : ", ", 1 + 0.01 * k);
    }
    nl::Study many = study_of("study s of Bob from swing { vary spring over " + springs + " ; vary twice over " +
                              [] {
                                  std::string list = "true";
                                  for (int k = 1; k < 300; ++k) list += k % 3 == 0 ? ", true" : ", false";
                                  return list;
                              }() +
                              " ; vary mass over " + masses + " ; where mass > 2 kg ; take row by row }\n");
    CHECK(many.n_runs() == 199);
    // what is wrong
    CHECK(trouble_of("study s of Bob from swing { vary mass over 1 kg, 2 kg ; vary drag over 1 N*s/m ; take row by row }")
              .find("'drag' has 1 values and 'mass' has 2") != std::string::npos);
    CHECK(trouble_of("study s of Bob from swing { vary mass over 1 kg .. 2 kg ; take row by row }").find("'row by row' needs lists") != std::string::npos);
    CHECK(trouble_of("study s of Bob from swing { vary mass over 1 kg, 2 kg ; vary drag over 0 N*s/m .. 1 N*s/m ; take row by row }")
              .find("'drag' has no list") != std::string::npos);
    CHECK(trouble_of("study s of Bob from swing { vary mass over 1 kg ; take row }").find("row by row") != std::string::npos);
    CHECK(trouble_of("study s of Bob from swing { vary mass over \"no.csv\" }").find("cannot be read") != std::string::npos);
    for (const char* what : {"spring", "twice", "scenario"})
        CHECK(trouble_of(fmt::format("study s of Bob from swing {{ vary {} over \"variants.csv\" }}", what)).find("a file gives numbers of params") !=
              std::string::npos);
    auto from_file = [&](const std::string& cells) {
        test::write_file(scratch / "list.csv", cells);
        test::write_file(scratch / "other.loop", kMachine + "study s of Bob from swing { vary mass over \"list.csv\" }\n");
        nl::Library loaded = nl::Library::standard();
        loaded.load_file(scratch / "other.loop");
        try {
            return std::to_string(nl::Study(loaded).n_runs());
        } catch (const nl::ModelError& error) {
            return std::string(error.what());
        }
    };
    CHECK(from_file("mass [kg]\n1\n2\n") == "2");
    CHECK(from_file("mass [kg]\n1\nheavy\n").find("row 3 has no number in column 'mass [kg]'") != std::string::npos);
    CHECK(from_file("mass [kg]\n1\n200\n").find("row 3 of 'list.csv'") != std::string::npos);
    CHECK(from_file("mass [s]\n1\n").find("does not fit [kg]") != std::string::npos);
    CHECK(from_file("drag\n1\n").find("no column is headed 'mass'") != std::string::npos);
    CHECK(from_file("mass [kg]\n").find("has no values") != std::string::npos);
}

TEST_CASE("a recording of a study is a machine that can be looked into, and may lie in the store itself")
{
    test::Scratch scratch;
    test::write_file(
        scratch / "bob.loop",
        kMachine +
            "catalogue springs : Spring { a = Linear(stiffness = 200 N/m) ; b = Stiffening(stiffness = 300 N/m) }\n"
            "study s of Bob from swing { vary spring over springs.b, Linear(stiffness = 50 N/m) ; vary twice over true ; keep recordings of all }\n");
    nl::Library library = nl::Library::standard();
    library.load_file(scratch / "bob.loop");
    nl::Study study(library);
    nl::Store store = nl::Store::open(scratch / "s.sqlite");
    nl::StudySummary done = nl::run_study(study, store);
    for (const nl::StudyRow& r : store.rows(store.study(done.id))) {
        test::Outcome o = test::netloop("modes " + r.recording + " --at 1s --json");
        CHECK_MESSAGE(o.code == 0, o.err);
        CHECK(o.out.find("\"modes\"") != std::string::npos);
    }
    done = nl::run_study(study, store, {.recordings = "database"});
    for (const nl::StudyRow& r : store.rows(store.study(done.id))) {
        CHECK(r.recording == "in the database");
        store.fetch_recording(done.id, r.run, scratch / "out.h5");
        CHECK(nl::Recording::load(scratch / "out.h5").measures[0].value == r.values[2]);
    }
}

TEST_CASE("uncertain things: draws, limits, correlation, values of a file")
{
    test::Scratch scratch;
    test::write_file(scratch / "masses.csv", "mass [g],weight\n1000,1\n2000,3\n");
    test::write_file(scratch / "bob.loop", kMachine +
                                               "study s of Bob from swing {\n  vary mass as drawn from \"masses.csv\"\n  vary spring.stiffness as normal(100 "
                                               "N/m, 20 N/m) limited to 60 N/m .. 140 N/m\n"
                                               "  vary drag as uniform(0 N*s/m, 1 N*s/m)\n  vary warm as normal(15 degC, 8 K) limited to -20 degC .. 35 degC\n"
                                               "  correlate drag with spring.stiffness at 0.8\n  take 200 by latin ; seed 5 }\n");
    nl::Library library = nl::Library::standard();
    library.load_file(scratch / "bob.loop");
    nl::Study study(library);
    std::size_t heavy = 0;
    double temperature = 0, both = 0;
    for (std::size_t i = 0; i < 200; ++i) {
        std::vector<double> v = study.varied(i);
        heavy += v[0] == 2 ? 1 : 0;
        CHECK((v[1] >= 60 && v[1] <= 140));
        CHECK((v[3] >= 253.15 && v[3] <= 308.15));
        temperature += v[3] / 200;
        both += (v[1] > 100) == (v[2] > 0.5) ? 1 : 0;
    }
    CHECK(heavy == 150);
    CHECK(temperature == doctest::Approx(288.15 - 0.16).epsilon(1e-3));  // the limits take a little more of the cold side away
    CHECK(both > 150);
    CHECK(study.columns()[3].kind == nl::StudyColumn::Kind::uncertain);
    CHECK(study.columns()[3].shown(288.15) == "15 degC");
}

TEST_CASE("where leaves points out, by params as they are settled")
{
    nl::Study study = study_of(
        "study s of Bob from swing { vary mass over 1 kg, 2 kg, 4 kg ; vary spring.stiffness over 50 N/m, 100 N/m, 200 N/m ; where spring.stiffness / mass < "
        "60 s^-2 and mass < 3 kg }\n");
    CHECK(study.n_runs() == 3);
    CHECK(study.n_left_out() == 6);
    std::set<std::string> there;
    for (std::size_t i = 0; i < study.n_runs(); ++i) there.insert(study.varied_text(i));
    CHECK(there == std::set<std::string>{"mass=1 kg, spring.stiffness=50 N/m", "mass=2 kg, spring.stiffness=50 N/m", "mass=2 kg, spring.stiffness=100 N/m"});
}

TEST_CASE("results are the same bits with any number of threads")
{
    nl::Study study = study_of(
        "study s of Bob from swing { vary mass over 1 kg .. 3 kg ; vary spring over Linear, Stiffening ; vary drag over 0 N*s/m .. 2 N*s/m ; take 60 }\n");
    std::vector<nl::StudyRow> one = rows_of(study, 1), four = rows_of(study, 4);
    REQUIRE(one.size() == four.size());
    for (std::size_t i = 0; i < one.size(); ++i) {
        CHECK(one[i].values == four[i].values);
        CHECK(one[i].steps == four[i].steps);
    }
}

TEST_CASE("a run that fails, or takes too long, is a result with its reason")
{
    nl::Study study = study_of(
        "component Hard : Spring { f = stiffness * x ; when x < -0.05 m { fail \"it broke\" } }\n"
        "study s of Bob from swing { vary spring over Linear, Hard ; vary mass over 1 kg, 2 kg ; keep recordings of those that fail }\n");
    test::Scratch scratch;
    nl::Store store = nl::Store::open(scratch / "s.sqlite");
    nl::StudySummary done = nl::run_study(study, store, {.jobs = 2});
    CHECK(done.complete);
    CHECK(done.failed == 2);
    nl::StudyRecord record = store.study(done.id);
    for (const nl::StudyRow& r : store.rows(record)) {
        bool hard = r.values[0] == 1;
        CHECK(r.status == (hard ? "failed" : "done"));
        CHECK(r.id == (hard ? "said-fail" : ""));
        CHECK((r.reason.find("it broke") != std::string::npos) == hard);
        CHECK(std::isnan(r.values[2]) == hard);
        CHECK(r.recording.empty() == !hard);
        if (hard) CHECK(nl::Recording::load(r.recording).complete == false);
    }
    done = nl::run_study(study_of("scenario long from swing { stop at 1e7 s }\nstudy s of Bob from long { vary mass over 1 kg, 2 kg }\n"), store,
                         {.jobs = 2, .limit = 0.2});
    CHECK(done.complete);
    for (const nl::StudyRow& r : store.rows(store.study(done.id))) {
        CHECK(r.status == "limit");
        CHECK(r.reason.find("time limit") != std::string::npos);
    }
}

TEST_CASE("an interrupted study keeps what is done and goes on where it was")
{
    nl::Study study = study_of("study s of Bob from swing { vary mass over 1 kg .. 3 kg ; take 4000 }\n");
    test::Scratch scratch;
    nl::Store store = nl::Store::open(scratch / "s.sqlite");
    std::atomic<bool> stop{false};
    nl::StudyOptions options{.jobs = 2, .interrupt = &stop};
    options.progress = [&](const nl::StudyOptions::Progress& p) {
        if (p.done > 100) stop = true;
    };
    nl::StudySummary first = nl::run_study(study, store, options);
    CHECK(!first.complete);
    CHECK(first.done == first.here);
    CHECK(first.here > 100);
    CHECK(store.check().empty());
    nl::StudySummary second = nl::run_study(study, store, {.jobs = 2, .resume = true});
    CHECK(second.id == first.id);
    CHECK(second.complete);
    CHECK(second.here + first.here == 4000);
    CHECK(store.check().empty());
    CHECK_THROWS_WITH_AS(nl::run_study(study, store, {.resume = true}), doctest::Contains("is complete"), nl::UsageError);
    CHECK_THROWS_WITH_AS(nl::run_study(study_of("study other of Bob from swing { vary mass over 1 kg, 3 kg }\n"), store, {.resume = true}),
                         doctest::Contains("no study 'other'"), nl::UsageError);
}

TEST_CASE("the best are recorded when all are there, and any run is made again from its row")
{
    nl::Study study = study_of("study s of Bob from swing { vary mass over 1 kg .. 3 kg in 9 ; keep recordings of best 2 by most half }\n");
    test::Scratch scratch;
    nl::Store store = nl::Store::open(scratch / "s.sqlite");
    nl::StudySummary done = nl::run_study(study, store);
    nl::StudyRecord record = store.study(done.id);
    std::set<std::int64_t> recorded;
    for (const nl::StudyRow& r : store.rows(record))
        if (!r.recording.empty()) recorded.insert(r.run);
    CHECK(recorded == std::set<std::int64_t>{7, 8});
    nl::RerunResult again = nl::rerun(store, done.id, 4, scratch / "four.h5");
    CHECK(again.same);
    nl::Recording recording = nl::Recording::load(scratch / "four.h5");
    CHECK(recording.measures[0].value == again.stored.values[1]);
    // a store that says otherwise is found out
    std::string change = "update runs_" + std::to_string(done.id) + " set c1 = c1 * 1.0000000000000002 where run = 4";
    CHECK(test::shell("sqlite3 " + (scratch / "s.sqlite") + " '" + change + "'").code == 0);
    CHECK(!nl::rerun(store, done.id, 4).same);
    CHECK_THROWS_WITH_AS(nl::rerun(store, done.id, 9), doctest::Contains("none of number 9"), nl::UsageError);
}

TEST_CASE("run_all: one system, many params, any order")
{
    Loaded loaded("");
    nl::CompiledSystem system = nl::compile(loaded.library, {.scenario = "swing"});
    std::vector<nl::ParamId> params{system.param("mass")};
    std::vector<double> masses, found(50, 0);
    for (int i = 0; i < 50; ++i) masses.push_back(1 + 0.1 * i);
    masses[13] = -1;  // outside its range
    nl::run_all(system, params, masses, {.jobs = 3}, [&](const nl::CaseResult& r) {
        if (r.index == 13) {
            CHECK(r.id == "out-of-range");
            return;
        }
        CHECK(r.error == "");
        found[r.index] = r.summary->measures[0].value;
    });
    for (int i = 0; i < 50; ++i)
        if (i != 13) CHECK(found[static_cast<std::size_t>(i)] == doctest::Approx(first_zero(masses[static_cast<std::size_t>(i)], 100)).epsilon(1e-5));
    CHECK_THROWS_AS(nl::run_all(system, {}, masses, {}, [](const nl::CaseResult&) {}), nl::UsageError);
}

TEST_CASE("what is wrong with a study or a catalogue is told with its place and a mend")
{
    struct Case {
        const char *text, *says;
    };
    const Case cases[] = {
        {"study s of Bob from swing { vary masss over 1 kg }", "did you mean 'mass'?"},
        {"study s of Bob from swing { vary mass over 1 m }", "'mass' is declared in [kg], the value is in [m]"},
        {"study s of Bob from swing { vary mass over 1 }", "'mass' is declared in [kg], the value 1 has no unit"},
        {"study s of Bob from swing { vary mass over 500 kg }", "'mass' is 500 kg, outside its range 0.01 kg .. 100 kg"},
        {"study s of Bob from swing { vary mass over 1 kg .. 500 kg in 4 }", "'mass' is 500 kg"},
        {"study s of Bob from swing { vary mass over 2 kg .. 1 kg in 4 }", "its first end is not below the second"},
        {"study s of Bob from swing { vary mass over 1 kg .. 2 kg in 1 }", "is to have 1 values"},
        {"study s of Bob from swing { vary mass over 1 kg .. 2 kg }", "needs a number of values for each range"},
        {"study s of Bob from swing { vary x over 1 m }", "is computed by the system"},
        {"study s of Bob from swing { vary spring over Other() }", "does not fit"},
        {"study s of Bob from swing { vary spring over mass }", "no definition in sight is called 'mass'"},
        {"study s of Bob from swing { vary spring over 1 N/m .. 2 N/m in 3 }", "is a slot: parts stand in it"},
        {"study s of Bob from swing { vary twice over 1 .. 2 in 3 }", "is an option: it has single values"},
        {"study s of Bob from swing { vary mass as normal(2 kg, 3 kg) ; take 20 }", "a rare draw of mass"},
        {"study s of Bob from swing { vary mass as normal(2 kg) }", "normal(mean, standard deviation)"},
        {"study s of Bob from swing { vary mass as triangular(2 kg, 1 kg, 3 kg) }", "not in order"},
        {"study s of Bob from swing { vary mass as drawn from \"no.csv\" }", "cannot be read"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; collect halff }", "no run of the study gives 'halff'"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; where x > 0 m }", "is not known before a run"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; where mass > 5 kg }", "no point of study 's' meets its conditions"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; where mass }", "'mass' is a number, where a condition is expected"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; vary mass over 3 kg }", "is said twice"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; take 5 ; take 6 }", "is said twice"},
        {"study s of Bob from swing { vary mass, drag over 1 kg, 2 kg }", "are not of one kind"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; correlate mass with drag at 0.5 }", "is not uncertain"},
        {"study s of Bob from swing { vary mass as uniform(1 kg, 2 kg) ; vary drag as uniform(0 N*s/m, 1 N*s/m) ; correlate mass with drag at 1.5 ; take 9 }",
         "between -1 and 1"},
        {"study s of Bob from swing { vary mass over 1 kg .. 2 kg ; take 4 for sobol ; where mass > 1.1 kg }", "need all points"},
        {"study s of Bob from swing { vary mass over 1 kg .. 3 kg in 4000 ; vary drag over 0 N*s/m .. 1 N*s/m in 4000 ; where mass > 2 kg }",
         "3000000 at most"},
        {"study s of Bob from swing { vary mass over 1 kg .. 3 kg in 4000 ; vary drag over 0 N*s/m .. 1 N*s/m in 400000 }", "take some of it"},
        {"study s of Bob from swing { vary mass as uniform(1 kg, 3 kg) ; take all with 900000000 draws }", "more than a plan can hold"},
        {"study s of Bob from swing { }", "varies nothing"},
        {"study s of Bob from swin { vary mass over 1 kg, 2 kg }", "did you mean 'swing'?"},
        {"study s of Bob { vary mass over 1 kg, 2 kg }", "several scenarios"},
        {"study s of Bib from swing { vary mass over 1 kg, 2 kg }", "did you mean 'Bob'?"},
        {"study s of Bob from swing { vary mass over 1 kg, 2 kg ; tune mass }", "expected vary, take, where"},
        {"study s of Bob from swing { vary mass over 1 kg .. 2 kg ; take 0 }", "a whole number from 1"},
        {"catalogue c : Spring { a = Other() }\nstudy s of Bob from swing { vary spring over c }", "does not fit"},
        {"catalogue c : Spring { a = Linear(stiffness = 3 m) }\nstudy s of Bob from swing { vary spring over c }", "the value is in [m]"},
        {"catalogue c : Spring { a = Linear() ; a = Linear() }", "'a' is declared twice in catalogue 'c'"},
        {"catalogue c : Spring { a = Linear() }\nstudy s of Bob from swing { vary spring over c.b }", "no entry of catalogue 'c' is called 'b'"},
        {"catalogue c : Spring { from \"no.csv\" as Linear }", "cannot be read"},
        {"catalogue c : Spring { a = Linear(law = \"x.csv\") }\nstudy s of Bob from swing { vary spring over c }", "'law' is not known in 'Linear'"},
    };
    for (const Case& c : cases) {
        INFO(c.text);
        std::string said = trouble_of(c.text);
        CHECK_MESSAGE(said.find(c.says) != std::string::npos, said);
    }
}

TEST_CASE("what is wrong with a file of entries is told with its line and column")
{
    test::Scratch scratch;
    auto said = [&](const std::string& csv) {
        test::write_file(scratch / "springs.csv", csv);
        test::write_file(scratch / "bob.loop",
                         kMachine + "catalogue c : Spring { from \"springs.csv\" as Stiffening }\nstudy s of Bob from swing { vary spring over c }\n");
        nl::Library library = nl::Library::standard();
        try {
            library.load_file(scratch / "bob.loop");
            nl::Study study(library);
        } catch (const nl::ModelError& error) {
            return std::string(error.what());
        }
        return std::string();
    };
    CHECK(said("name,stiffness [N/m]\na,100\nb,12x\n").find("springs.csv:3:3: error: '12x' is no number") != std::string::npos);
    CHECK(said("name,stiffness [bar]\na,100\n").find("springs.csv:2:3: error: 'stiffness' is declared in [N/m], the value is in [bar]") != std::string::npos);
    CHECK(said("name,stiffness [nonsense]\na,100\n").find("springs.csv:1:6: error: column 'stiffness [nonsense]'") != std::string::npos);
    CHECK(said("nam,stiffness [N/m]\na,100\n").find("has no column 'name'") != std::string::npos);
    CHECK(said("name,stiffness [N/m]\na,100,3\n").find("the row has 3 cells, the heading 2") != std::string::npos);
    CHECK(said("name,stifness [N/m]\na,100\n").find("did you mean 'stiffness'?") != std::string::npos);
    CHECK(said("name,stiffness [N/m]\n1a,100\n").find("cannot be the name of an entry") != std::string::npos);
    CHECK(said("name,stiffness [N/m]\na,100\na,200\n").find("declared twice") != std::string::npos);
    CHECK(said("").find("has no heading") != std::string::npos);
    CHECK(said("name,stiffness [N/m]\na,100\n\"b\",\"2e2\"\n") == "");
}

TEST_CASE("texts of a study are laid out and read again as they were")
{
    std::string text =
        "study   s of Bob from swing {\nvary mass over 1 kg..3 kg in 4 on log\n  take 5   by latin\n}\ncatalogue c:Spring{\n a \"A\"=Linear( stiffness=3 N/m "
        ")\n}\n";
    std::string once = nl::format_text("s.loop", text);
    CHECK(nl::format_text("s.loop", once) == once);
    CHECK(once.find("    vary mass over 1 kg .. 3 kg in 4 on log") != std::string::npos);
    // a minus stays with its number: -10 degC is a point on a scale, - 10 degC the negative of one
    std::string cold =
        "study s of Bob from swing {\n    vary warm over -10 degC .. 35 degC\n    vary warm as normal(-5 degC, 3 K) limited to -20 degC .. 3 degC\n}\n";
    CHECK(nl::format_text("s.loop", cold) == cold);
}
