// SPDX-License-Identifier: Apache-2.0
// Recordings from elsewhere: what they say of themselves is looked at before it is believed.
#include <doctest/doctest.h>
#include <fmt/format.h>
#include <hdf5.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <functional>
#include <random>

#include "netloop/recording.hpp"
#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;

namespace {

hid_t any_length()
{
    hid_t type = H5Tcopy(H5T_C_S1);
    H5Tset_size(type, H5T_VARIABLE);
    H5Tset_cset(type, H5T_CSET_UTF8);
    return type;
}

hid_t room(std::vector<hsize_t> size)
{
    return size.empty() ? H5Screate(H5S_SCALAR) : H5Screate_simple(static_cast<int>(size.size()), size.data(), nullptr);
}

// A data set in the place of the one of this name; without data nothing is written into it.
void put(hid_t file, const char* name, hid_t type, const std::vector<hsize_t>& size, const void* data = nullptr, bool chunked = false)
{
    if (H5Lexists(file, name, H5P_DEFAULT) > 0) H5Ldelete(file, name, H5P_DEFAULT);
    hid_t create = H5Pcreate(H5P_DATASET_CREATE);
    if (chunked) {
        std::vector<hsize_t> chunk(size.size(), 1);
        chunk[0] = std::min<hsize_t>(size[0], 64);
        H5Pset_chunk(create, static_cast<int>(size.size()), chunk.data());
    }
    hid_t set = H5Dcreate2(file, name, type, room(size), H5P_DEFAULT, create, H5P_DEFAULT);
    REQUIRE(set >= 0);
    if (data != nullptr) H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, data);
    H5Dclose(set);
}

void put_texts(hid_t file, const char* name, const std::vector<std::string>& texts, bool single = false)
{
    std::vector<const char*> list;
    for (const std::string& t : texts) list.push_back(t.c_str());
    put(file, name, any_length(), single ? std::vector<hsize_t>{} : std::vector<hsize_t>{list.size()}, list.data());
}

void put_attribute(hid_t at, const char* name, hid_t type, std::vector<hsize_t> size, const void* data)
{
    H5Adelete(at, name);
    hid_t a = H5Acreate2(at, name, type, room(std::move(size)), H5P_DEFAULT, H5P_DEFAULT);
    REQUIRE(a >= 0);
    H5Awrite(a, type, data);
    H5Aclose(a);
}

// Changes one member of a row of the table of columns.
template <typename Value>
void set_column(hid_t file, const char* member, hid_t type, hsize_t row, Value value)
{
    hid_t set = H5Dopen2(file, "columns", H5P_DEFAULT), one = H5Tcreate(H5T_COMPOUND, sizeof(Value)), space = H5Dget_space(set);
    H5Tinsert(one, member, 0, type);
    hsize_t count = 1;
    H5Sselect_hyperslab(space, H5S_SELECT_SET, &row, nullptr, &count, nullptr);
    CHECK(H5Dwrite(set, one, H5Screate_simple(1, &count, nullptr), space, H5P_DEFAULT, &value) >= 0);
    H5Dclose(set);
}

void set_value(hid_t file, hsize_t row, hsize_t column, double value)
{
    hid_t set = H5Dopen2(file, "values", H5P_DEFAULT), space = H5Dget_space(set);
    hsize_t at[2] = {row, column}, count[2] = {1, 1};
    H5Sselect_hyperslab(space, H5S_SELECT_SET, at, nullptr, count, nullptr);
    CHECK(H5Dwrite(set, H5T_NATIVE_DOUBLE, H5Screate_simple(2, count, nullptr), space, H5P_DEFAULT, &value) >= 0);
    H5Dclose(set);
}

std::string good_recording(const test::Scratch& scratch)
{
    Library library = Library::standard();
    library.load_text(
        "m.loop",
        "system S {\n    var x : m init 1 m\n    x' = -x / (1 s)\n    when x < 0.5 m { warn \"half\" }\n}\nscenario a of S { stop at 1 s ; output every "
        "10 ms ; measure m = max(x) }\n");
    Run(compile(library, {})).simulate({.out = scratch / "good.h5", .points = 4});
    return scratch / "good.h5";
}

void must_be_sound(const Recording& r)
{
    CHECK(r.columns.size() >= 1);
    CHECK(r.time().name == "time");
    CHECK(std::is_sorted(r.time().values.begin(), r.time().values.end()));
    for (const Column& c : r.columns) {
        CHECK(c.values.size() == r.n_rows());
        CHECK(c.scale > 0);
        CHECK_FALSE(c.name.empty());
    }
    for (double t : r.time().values) CHECK(std::isfinite(t));
}

struct Crafted {
    const char* name;
    const char* refused;  ///< what is said of it; null: it is read, without what is strange
    std::function<void(hid_t)> change;
};

}  // namespace

TEST_SUITE_BEGIN("record");

TEST_CASE("crafted recordings are refused with a reason, or read without what is strange in them")
{
    test::Scratch scratch;
    std::string good = good_recording(scratch);
    const std::vector<std::string> many(2000, std::string(100, 'A'));
    std::vector<double> numbers(8000, 1.0);
    std::vector<std::int64_t> tail(100000, 3);
    std::int64_t before[2] = {-1, 64}, beyond[2] = {std::int64_t{1} << 62, 64};
    std::vector<double> rows(64 * 2);
    const std::string bomb = "{\"params\":" + std::string(3000000, '[') + std::string(3000000, ']') + "}";
    const char* text = "X";
    std::vector<const char*> texts(2000, "X");
    const Crafted all[] = {
        {"about: many texts", nullptr, [&](hid_t f) { put_texts(f, "about", many); }},
        {"results: many texts", nullptr, [&](hid_t f) { put_texts(f, "results", many); }},
        {"about: numbers", nullptr, [&](hid_t f) { put(f, "about", H5T_NATIVE_DOUBLE, {8000}, numbers.data()); }},
        {"about: nested without end", nullptr, [&](hid_t f) { put_texts(f, "about", {bomb}, true); }},
        {"about: other types", nullptr,
         [&](hid_t f) {
             put_texts(f, "about", {R"({"version":3,"params":[{"path":5}],"texts":[{"file":7}],"parts":{"a":1},"figures":[{"title":[]}]})"}, true);
         }},
        {"system: many texts", nullptr, [&](hid_t f) { put_attribute(f, "system", any_length(), {2000}, texts.data()); }},
        {"form: another", "not written by", [&](hid_t f) { put_attribute(f, "form", any_length(), {}, &text); }},
        {"columns: without texts", "no name",
         [&](hid_t f) {
             hid_t type = H5Dget_type(H5Dopen2(f, "columns", H5P_DEFAULT));
             put(f, "columns", type, {2}, nullptr, true);
         }},
        {"columns: numbers", "no table of names", [&](hid_t f) { put(f, "columns", H5T_NATIVE_DOUBLE, {8000}, numbers.data()); }},
        {"columns: none", "first column",
         [&](hid_t f) {
             hid_t type = H5Dget_type(H5Dopen2(f, "columns", H5P_DEFAULT));
             put(f, "columns", type, {0});
         }},
        {"index below", "points outside", [&](hid_t f) { set_column<std::int64_t>(f, "index", H5T_NATIVE_INT64, 1, -1); }},
        {"index beyond", "points outside", [&](hid_t f) { set_column<std::int64_t>(f, "index", H5T_NATIVE_INT64, 1, 1000000000000000); }},
        {"scale 0", "the scale of", [&](hid_t f) { set_column<double>(f, "scale", H5T_NATIVE_DOUBLE, 1, 0); }},
        {"scale NaN", "the scale of", [&](hid_t f) { set_column<double>(f, "scale", H5T_NATIVE_DOUBLE, 1, std::nan("")); }},
        {"offset infinite", "the scale of", [&](hid_t f) { set_column<double>(f, "offset", H5T_NATIVE_DOUBLE, 1, HUGE_VAL); }},
        {"two times", "two columns", [&](hid_t f) { set_column<const char*>(f, "name", any_length(), 1, "time"); }},
        {"time has another name", "first column", [&](hid_t f) { set_column<const char*>(f, "name", any_length(), 0, "clock"); }},
        {"a name of several lines", "no name", [&](hid_t f) { set_column<const char*>(f, "name", any_length(), 1, "a\nb\x1b[2J"); }},
        {"values: huge", "more rows than",
         [&](hid_t f) {
             put(f, "values", H5T_NATIVE_DOUBLE, {hsize_t{1} << 40, 2}, nullptr, true);
         }},
        {"values: 1e9 rows", "more rows than",
         [&](hid_t f) {
             put(f, "values", H5T_NATIVE_DOUBLE, {1000000000, 2}, nullptr, true);
         }},
        {"values: in a row", "no table", [&](hid_t f) { put(f, "values", H5T_NATIVE_DOUBLE, {10}, numbers.data()); }},
        {"values: texts", "no table",
         [&](hid_t f) {
             put(f, "values", any_length(), {10, 2}, nullptr, true);
         }},
        {"values: whole numbers", nullptr,
         [&](hid_t f) {
             put(f, "values", H5T_NATIVE_INT, {4, 2}, std::vector<int>{0, 5, 1, 5, 2, 5, 3, 5}.data());
         }},
        {"values: a group", "missing",
         [&](hid_t f) {
             H5Ldelete(f, "values", H5P_DEFAULT);
             H5Gclose(H5Gcreate2(f, "values", H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT));
         }},
        {"values: in another file", "missing",
         [&](hid_t f) {
             H5Ldelete(f, "values", H5P_DEFAULT);
             H5Lcreate_external("/etc/passwd", "/x", f, "values", H5P_DEFAULT, H5P_DEFAULT);
         }},
        {"values: a link to itself", "missing",
         [&](hid_t f) {
             H5Ldelete(f, "values", H5P_DEFAULT);
             H5Lcreate_soft("/values", f, "values", H5P_DEFAULT, H5P_DEFAULT);
         }},
        {"time without a value", "has no time", [&](hid_t f) { set_value(f, 3, 0, std::nan("")); }},
        {"time goes back", "goes back", [&](hid_t f) { set_value(f, 3, 0, -5); }},
        {"tail: many rows", nullptr,
         [&](hid_t f) {
             put(f, "tail", H5T_NATIVE_DOUBLE, {64, 2}, rows.data());
             put(f, "tail_rows", H5T_NATIVE_INT64, {100000}, tail.data());
         }},
        {"tail: before the first", nullptr,
         [&](hid_t f) {
             put(f, "tail", H5T_NATIVE_DOUBLE, {64, 2}, rows.data());
             put(f, "tail_rows", H5T_NATIVE_INT64, {2}, before);
         }},
        {"tail: far beyond", nullptr,
         [&](hid_t f) {
             put(f, "tail", H5T_NATIVE_DOUBLE, {64, 2}, rows.data());
             put(f, "tail_rows", H5T_NATIVE_INT64, {2}, beyond);
         }},
        {"events: without texts", nullptr,
         [&](hid_t f) {
             hid_t type = H5Dget_type(H5Dopen2(f, "events", H5P_DEFAULT));
             put(f, "events", type, {2}, nullptr, true);
         }},
        {"events: many steps", nullptr,
         [&](hid_t f) { put_attribute(H5Dopen2(f, "events", H5P_DEFAULT), "steps", H5T_NATIVE_DOUBLE, {8000}, numbers.data()); }},
        {"event times: texts", nullptr, [&](hid_t f) { put_texts(f, "event_times", many); }},
        {"points: names that are numbers", nullptr, [&](hid_t f) { put(f, "points/0/names", H5T_NATIVE_DOUBLE, {8000}, numbers.data()); }},
        {"points: more names than places", nullptr, [&](hid_t f) { put_texts(f, "points/0/names", many); }},
        {"points: names without texts", nullptr, [&](hid_t f) { put(f, "points/0/names", any_length(), {hsize_t{1} << 30}, nullptr, true); }},
        {"points: values huge", nullptr,
         [&](hid_t f) {
             put(f, "points/0/values", H5T_NATIVE_DOUBLE, {4, hsize_t{1} << 40}, nullptr, true);
         }},
        {"points: a time without a value", nullptr,
         [&](hid_t f) {
             const double times[4] = {0, std::nan(""), 1, 2};
             put(f, "points/0/time", H5T_NATIVE_DOUBLE, {4}, times);
         }},
        {"points: places beyond the values", nullptr,
         [&](hid_t f) {
             hsize_t n = 0;
             hid_t set = H5Dopen2(f, "points/0/index", H5P_DEFAULT), space = H5Dget_space(set);
             H5Sget_simple_extent_dims(space, &n, nullptr);
             H5Sclose(space);
             put(f, "points/0/index", H5T_NATIVE_UINT32, {n}, std::vector<std::uint32_t>(n, 4000000000u).data());
         }},
        {"points: a past that ends before it begins", nullptr,
         [&](hid_t f) {
             const std::uint64_t starts[5] = {0, 9, 3, 2, 0};
             put(f, "points/0/past_starts", H5T_NATIVE_UINT64, {5}, starts);
         }},
        {"points: in another file", nullptr,
         [&](hid_t f) {
             H5Ldelete(f, "points", H5P_DEFAULT);
             H5Lcreate_external("good.h5", "/points", f, "points", H5P_DEFAULT, H5P_DEFAULT);
         }},
        {"event times: huge", nullptr, [&](hid_t f) { put(f, "event_times", H5T_NATIVE_DOUBLE, {hsize_t{1} << 45}, nullptr, true); }},
    };
    for (const Crafted& c : all) {
        INFO(std::string(c.name));
        std::string path = scratch / "crafted.h5";
        fs::copy_file(good, path, fs::copy_options::overwrite_existing);
        hid_t file = H5Fopen(path.c_str(), H5F_ACC_RDWR, H5P_DEFAULT);
        REQUIRE(file >= 0);
        c.change(file);
        // what the change left open is closed with the file
        std::vector<hid_t> open(static_cast<std::size_t>(std::max<ssize_t>(0, H5Fget_obj_count(file, H5F_OBJ_ALL | H5F_OBJ_LOCAL))));
        H5Fget_obj_ids(file, H5F_OBJ_DATASET | H5F_OBJ_GROUP | H5F_OBJ_ATTR | H5F_OBJ_DATATYPE | H5F_OBJ_LOCAL, open.size(), open.data());
        for (hid_t id : open)
            if (id > 0 && id != file) H5Idec_ref(id);
        H5Fclose(file);
        try {
            Recording r = Recording::load(path);
            CHECK(c.refused == nullptr);
            must_be_sound(r);
            CHECK(r.points.size() == (std::string(c.name).starts_with("points") ? 0 : 4));  // of points that are not whole there are none
        } catch (const RecordingError& error) {
            REQUIRE(c.refused != nullptr);
            CHECK(std::string(error.what()).find(c.refused) != std::string::npos);
        }
    }
}

TEST_CASE("a recording with bytes changed, cut or put in ends every command with a code of ours")
{
    test::Scratch scratch;
    std::string good = test::read_file(good_recording(scratch));
    const char* set = std::getenv("NETLOOP_DAMAGED");
    int n = set != nullptr ? std::atoi(set) : 60;
    std::mt19937 random(7);
    auto below = [&](std::size_t most) { return std::uniform_int_distribution<std::size_t>(0, most - 1)(random); };
    for (int k = 0; k < n; ++k) {
        std::string bytes = good;
        switch (k % 4) {
            case 0:
                for (int i = 0; i < 8; ++i) bytes[below(bytes.size())] = static_cast<char>(below(256));
                break;
            case 1:
                bytes.resize(below(bytes.size()));
                break;
            case 2:
                bytes.insert(below(bytes.size()), std::string(1 + below(40), '\xff'));
                break;
            default:  // where the library keeps its texts
                if (std::size_t at = bytes.find("GCOL"); at != std::string::npos)
                    for (int i = 0; i < 4; ++i) bytes[at + 8 + below(400)] = static_cast<char>(below(256));
        }
        test::write_file(scratch / "d.h5", bytes);
        test::Outcome o = test::netloop("events " + (scratch / "d.h5"));
        INFO(k << ": " << o.err);
        CHECK(o.code <= 1);
        CHECK(o.err.find("fault of netloop") == std::string::npos);
    }
}

TEST_CASE("a recording with a damaged head is refused at once, not waited for")
{
    test::Scratch scratch;
    std::string bytes = test::read_file(good_recording(scratch));
    // the head of an HDF5 file of version 2 or 3 is 48 bytes, the last four a checksum: one that does not fit is taken for half written
    REQUIRE(bytes.substr(1, 3) == "HDF");
    REQUIRE(bytes[8] >= 2);
    for (std::size_t at : {std::size_t{30}, std::size_t{45}}) {
        std::string broken = bytes;
        broken[at] = static_cast<char>(broken[at] ^ 0x55);
        test::write_file(scratch / "head.h5", broken);
        test::Outcome o = test::shell("timeout 20 " + std::string(std::getenv("NETLOOP_PROGRAM")) + " events " + (scratch / "head.h5"));
        INFO(o.err);
        CHECK(o.code == 1);
        CHECK(o.err.find("damaged") != std::string::npos);
    }
}

TEST_CASE("a report of a recording from elsewhere reads nothing from this machine")
{
    test::Scratch scratch;
    std::string good = good_recording(scratch);
    test::write_file(scratch / "secret.loop", "const secret_of_this_machine = 1\n");
    Recording r = Recording::load(good);
    REQUIRE(r.origin.texts.size() == 1);
    r.origin.texts[0].text =
        "use \"" + (scratch / "secret.loop") + "\"\nuse \"secret.loop\"\ntable t(x : 1) -> 1 from \"/etc/passwd\"\n" + r.origin.texts[0].text;
    r.origin.texts[0].file = "../../m.loop";
    r.columns[1].description = "<!-- <script> </script>";
    r.save(scratch / "foreign.h5");
    test::Outcome o = test::netloop("report " + (scratch / "foreign.h5") + " --out " + (scratch / "r.html"));
    INFO(o.err);
    CHECK(o.code == 0);
    std::string page = test::read_file(scratch / "r.html");
    CHECK(page.find("it is not among the texts of the recording") != std::string::npos);
    CHECK(page.find("root:") == std::string::npos);
    // neither an end of the script nor a comment stands within the data
    std::size_t data = page.find("id=\"data\">"), end = page.find("</script>", data);
    REQUIRE(data != std::string::npos);
    CHECK(page.substr(data + 10, end - data - 10).find('<') == std::string::npos);
}

TEST_CASE("a table travels with the recording of a model that reads it")
{
    test::Scratch scratch;
    test::write_file(scratch / "u.csv", "s,u\n0,1\n1,2\n");
    test::write_file(scratch / "t.loop", "table u(s : s) -> 1 from \"u.csv\"\nsystem S {\n    var x : 1 init 0\n    x' = u(time) / (1 s)\n}\n");
    REQUIRE(test::netloop("run " + (scratch / "t.loop") + " --stop 1s --quiet --out " + (scratch / "t.h5")).code == 0);
    Recording r = Recording::load(scratch / "t.h5");
    REQUIRE(r.origin.texts.size() == 2);
    CHECK(r.origin.texts[1].file == "u.csv");
    fs::remove(scratch / "u.csv");
    Library library = Library::standard();
    library.load_recorded(r.origin.texts);
    CHECK(Run(compile(library, {})).simulate({.stop = 1.0})["x"].final() == doctest::Approx(1.5));
    Library without = Library::standard();
    without.load_recorded({r.origin.texts[0]});
    CHECK_THROWS_WITH_AS(compile(without, {}), doctest::Contains("not in the recording"), ModelError);
}

TEST_SUITE_END();
