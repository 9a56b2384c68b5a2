// SPDX-License-Identifier: Apache-2.0
// What lies in a recording on disk, as other programs read it, and how much of it is read when.
#include <doctest/doctest.h>

#include <fmt/format.h>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <thread>

#include "record/packed_blocks.hpp"
#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;

namespace {

// Numbers with digits that cannot be packed, that can, and that stand still.
Recording many(std::size_t columns, std::size_t rows)
{
    Recording r;
    for (std::size_t c = 0; c < columns; ++c) {
        Column column;
        column.name = c == 0 ? "time" : "q" + std::to_string(c);
        column.unit = c == 0 ? "s" : "bar";
        column.scale = c == 0 ? 1 : 1e5;
        for (std::size_t i = 0; i < rows; ++i) {
            auto t = static_cast<double>(i);
            column.values.push_back(c == 0 ? 0.01 * t : c % 3 == 0 ? 3.5 : c % 3 == 1 ? std::sin(1.7 * t * static_cast<double>(c)) : std::floor(t / 7));
        }
        r.columns.push_back(std::move(column));
    }
    return r;
}

// The blocks of a language in a document.
std::vector<std::string> listings(const std::string& document, const std::string& language)
{
    std::vector<std::string> found;
    std::string text = test::read_file(document), fence = "```" + language + "\n";
    for (std::size_t at = text.find(fence); at != std::string::npos; at = text.find(fence, at)) {
        at += fence.size();
        found.push_back(text.substr(at, text.find("```", at) - at));
    }
    return found;
}

std::string number_after(const std::string& text, const std::string& words)
{
    std::size_t at = text.find(words);
    if (at == std::string::npos) return "";
    at += words.size();
    return text.substr(at, text.find_first_of(" \n", at) - at);
}

}  // namespace

TEST_SUITE_BEGIN("record");

TEST_CASE("chunks hold a column each, unless there are very many columns")
{
    CHECK(chunk_shape(10).rows == 4096);
    CHECK(chunk_shape(10).columns == 1);
    CHECK(chunk_shape(1000).rows == 512);
    CHECK(chunk_shape(100000).rows == 64);
    CHECK(chunk_shape(100000).columns == 16);
    for (std::size_t n : {1, 3, 500, 5000, 200000}) CHECK(chunk_shape(n).rows * chunk_shape(n).columns >= std::min<std::size_t>(1024, n * 64));
}

TEST_CASE("every number comes back, over many blocks, wide tables and edges of chunks")
{
    test::Scratch scratch;
    for (auto [columns, rows] : {std::pair<std::size_t, std::size_t>{4, 10000}, {4, 4096}, {4, 4097}, {4, 1}, {700, 1500}, {20011, 70}}) {
        INFO(columns, " x ", rows);
        Recording r = many(columns, rows);
        r.save(scratch / "a.h5");
        Recording back = Recording::load(scratch / "a.h5");
        REQUIRE(back.columns.size() == columns);
        REQUIRE(back.n_rows() == rows);
        bool same = true;
        for (std::size_t c = 0; c < columns; ++c) same = same && back.columns[c].values == r.columns[c].values;
        CHECK(same);
    }
    CHECK(fs::file_size(scratch / "a.h5") < 20011 * 70 * 8);
}

TEST_CASE("an opened recording reads what is asked for, and says so where it was not")
{
    test::Scratch scratch;
    many(20, 3000).save(scratch / "a.h5");
    Recording r = Recording::open(scratch / "a.h5");
    CHECK(r.n_rows() == 3000);
    CHECK(r["q1"].values.empty());
    CHECK_THROWS_AS(r["q1"].max(), RecordingError);
    r.fetch({"q1", "q1*"});
    CHECK(r["q1"].values.size() == 3000);
    CHECK(r["q12"].values.size() == 3000);
    CHECK(r["q2"].values.empty());
    Recording copy = r;
    copy.fetch({"q2"});
    CHECK(copy["q2"].final() == std::floor(2999.0 / 7));
    CHECK(r["q2"].values.empty());
    Recording::load(scratch / "a.h5").save(scratch / "b.csv");
    CHECK(Recording::open(scratch / "b.csv")["q2"].values.size() == 3000);
}

TEST_CASE("a long recording does not pile up in memory")
{
    test::Scratch scratch;
    auto peak = [&](const std::string& every) {  // MB
        test::write_file(scratch / "m.loop",
                         "system S {\n    var x[20] init 1\n    for i in 1 .. 20 { x[i]' = -x[i] / (i * 1 s) + sin(time * i / (1 s)) / (1 s) }\n}\n"
                         "scenario a of S { stop at 100 s ; output every " +
                             every + " }\n");
        test::Outcome o = test::shell("/usr/bin/time -f %M " + std::string(std::getenv("NETLOOP_PROGRAM")) + " run " + (scratch / "m.loop") + " --out " +
                                      (scratch / "m.h5") + " --quiet");
        REQUIRE(o.code == 0);
        return std::atof(o.err.c_str()) / 1024;
    };
    double few = peak("1 s"), many_rows = peak("0.2 ms");  // 500,000 rows of 21 columns: ten million points, 84 MB
    if (std::string(std::getenv("NETLOOP_SANITIZED")) != "ON") CHECK(many_rows < few + 45);
    Recording r = Recording::open(scratch / "m.h5");
    CHECK(r.n_rows() == 500001);
    r.fetch({"x[3]"});
    CHECK(r["x[3]"].values.size() == 500001);
}

TEST_CASE("the programs in docs/recordings.md read what is in the file")
{
    test::Scratch scratch;
    std::string bridge = test::source_path("examples/bascule/bridge.loop"), document = test::source_path("docs/recordings.md");
    for (const char* form : {"h5", "csv"}) REQUIRE(test::netloop("run " + bridge + " --quiet --out " + (scratch / ("bridge." + std::string(form)))).code == 0);
    Recording r = Recording::load(scratch / "bridge.h5");
    std::string p = fmt::format("{:.3f}", r["pump.outlet.p"].in("bar").max()), angle = fmt::format("{:.3f}", r["leaf.angle"].in("deg").max());
    for (auto [language, command] : {std::pair{"python", "/usr/bin/python3 program"}, {"octave", "octave --no-gui --quiet --no-init-file program"}}) {
        std::vector<std::string> programs = listings(document, language);
        REQUIRE(programs.size() == 2);
        for (std::size_t k = 0; k < 2; ++k) {
            INFO(language, " ", k);
            CHECK(std::count(programs[k].begin(), programs[k].end(), '\n') <= 11);
            test::write_file(scratch / "program", programs[k]);
            test::Outcome o = test::shell("cd " + scratch.path() + " && " + command);
            INFO(o.err);
            CHECK(number_after(o.out, "pump.outlet.p up to ") == p);
            if (k == 0) CHECK(number_after(o.out, "leaf.angle up to ") == angle);
            if (k == 0) CHECK(o.out.find(fmt::format("{} rows to {:g} s", r.n_rows(), r.time().final())) != std::string::npos);
        }
    }
}

TEST_CASE("a recording holds the parts with their kinds and pictures, what the start assumed, and the texts under their names")
{
    test::Scratch scratch;
    fs::create_directories(scratch / "parts");
    test::write_file(
        scratch / "parts/swing.loop",
        "use mechanics\n## Picture: body (s,0)\ncomponent Swing {\n part m : Mass(mass = 2 kg)\n port end : translational\n let s = m.x\n m.point -- end\n}\n");
    test::write_file(scratch / "main.loop",
                     "use mechanics\nuse \"parts/swing.loop\"\nsystem S {\n part swing : Swing\n part spring : Spring(stiffness = 8 N/m)\n part wall : "
                     "Anchor\n wall.point -- spring.a\n "
                     "spring.b -- swing.end\n init swing.m.x = 1 m\n}\nscenario a of S { stop at 1 s }\n");
    test::Outcome o = test::netloop("run " + (scratch / "main.loop") + " --quiet --out " + (scratch / "a.h5"));
    INFO(o.err);
    REQUIRE(o.code == 0);
    Recording r = Recording::open(scratch / "a.h5");
    auto part = [&](const std::string& path) {
        for (const PartEntry& p : r.origin.parts)
            if (p.path == path) return p;
        return PartEntry{};
    };
    CHECK(part("").kind == "S");
    CHECK(part("swing").kind == "Swing");
    CHECK(part("swing").pictures == std::vector<std::string>{"body (s,0)"});
    CHECK(part("swing.m").kind == "mechanics.Mass");
    CHECK(part("spring").kind == "mechanics.Spring");
    CHECK(part("spring").pictures.empty());
    REQUIRE(r.assumed.size() == 1);
    CHECK(r.assumed[0].find("swing.m.v") != std::string::npos);
    REQUIRE(r.origin.texts.size() == 2);
    CHECK(r.origin.texts[0].file == "main.loop");
    CHECK(r.origin.texts[1].file == "parts/swing.loop");
    // and once more through another file
    r.fetch({"*"});
    r.save(scratch / "b.h5");
    Recording again = Recording::open(scratch / "b.h5");
    CHECK(again.assumed == r.assumed);
    CHECK(again.origin.parts.size() == r.origin.parts.size());
}

TEST_CASE("what docs/recordings.md says stands in `about` and `results` stands there")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop",
                     "## A machine.\nsystem M {\n param k : s^-1 = 2 s^-1 ## how fast\n var x : mm init 5 mm\n var y : degC guess 20 degC\n x' = -k * x\n y' = "
                     "0 K/s\n sequence "
                     "duty { stage fast { } -> slow when x < 1 mm\n stage slow { } }\n}\nscenario a of M {\n ## Of falling.\n set k = 3 s^-1\n stop at 2 s\n "
                     "measure least = min(x) ## "
                     "the end\n measure never = first(time when x > 9 mm)\n require least < 1 mm \"it falls\"\n figure \"Fall\" { x : m }\n}\n");
    test::Outcome run = test::netloop("run " + (scratch / "m.loop") + " --quiet --out " + (scratch / "m.h5"));
    INFO(run.err);
    REQUIRE(run.code == 0);
    test::write_file(scratch / "read.py",
                     "import h5py, json, sys\nf = h5py.File(sys.argv[1])\ntext = lambda n: json.loads(f[n][()].decode())\nprint(json.dumps({'about': "
                     "text('about'), 'results': "
                     "text('results'), 'attributes': {k: v.decode() if isinstance(v, bytes) else str(v) for k, v in f.attrs.items()}}))\n");
    test::Outcome read = test::shell("/usr/bin/python3 " + (scratch / "read.py") + " " + (scratch / "m.h5"));
    INFO(read.err);
    REQUIRE(read.code == 0);
    nlohmann::json all = nlohmann::json::parse(read.out), &about = all["about"], &results = all["results"];
    CHECK(all["attributes"]["form"] == "netloop recording 1");
    CHECK(all["attributes"]["system"] == "M");
    CHECK(all["attributes"]["scenario"] == "a");
    CHECK(all["attributes"]["complete"] == "yes");
    CHECK(about["program"] == "netloop " + about["version"].get<std::string>());
    CHECK(about["doc"] == "Of falling.");
    CHECK(about["tolerance"] == 1e-6);
    CHECK(about["text_hash"].get<std::string>().size() == 16);
    REQUIRE(about["texts"].size() == 1);
    CHECK(about["texts"][0]["file"] == "m.loop");
    CHECK(about["texts"][0]["text"] == test::read_file(scratch / "m.loop"));
    REQUIRE(about["params"].size() == 1);
    CHECK(about["params"][0]["path"] == "k");
    CHECK(about["params"][0]["value"] == 3);
    CHECK(about["params"][0]["changed"] == true);
    CHECK(about["params"][0]["doc"] == "how fast");
    CHECK(about["sequences"] == nlohmann::json::parse("[{\"path\": \"duty\", \"stages\": [\"fast\", \"slow\"]}]"));
    CHECK(about["figures"][0]["title"] == "Fall");
    CHECK(about["figures"][0]["panels"][0]["curves"][0] == nlohmann::json::parse("{\"path\": \"x\", \"unit\": \"m\"}"));
    REQUIRE(results["measures"].size() == 2);
    CHECK(results["measures"][0]["value"].get<double>() == doctest::Approx(5e-3 * std::exp(-6)).epsilon(1e-4));
    CHECK(results["measures"][0]["unit"] == "mm");
    CHECK(results["measures"][0]["doc"] == "the end");
    CHECK(results["measures"][1]["value"].is_null());
    CHECK(results["demands"][0]["holds"] == true);
    CHECK(results["demands"][0]["text"] == "it falls");
    CHECK(results["assumed"] == nlohmann::json::array({"y = 20 degC"}));
    Recording back = Recording::load(scratch / "m.h5");
    CHECK(back.origin.stages_of("duty") == std::vector<std::string>{"fast", "slow"});
    CHECK(back["duty"].final() == 2);
}

TEST_CASE("where rows come faster than they are packed, blocks are stored, as streams that any reader of zlib takes")
{
    constexpr std::size_t kRows = 4096, kColumns = 3, kBlocks = 7;
    std::vector<std::vector<std::uint8_t>> first_chunks;
    auto slow = [&](const RowBlock& block, const std::vector<std::vector<std::uint8_t>>& chunks) {
        CHECK(block.first == first_chunks.size() * kRows);  // in their order
        CHECK(chunks.size() == kColumns);
        first_chunks.push_back(chunks[0]);
        std::this_thread::sleep_for(std::chrono::milliseconds(40));
        return true;
    };
    {
        BlockPacker packer(kColumns, {kRows, 1}, slow, true);
        for (std::size_t b = 0; b < kBlocks; ++b) {
            RowBlock block{b * kRows, kRows, packer.room()};
            for (std::size_t r = 0; r < kRows; ++r)
                for (std::size_t c = 0; c < kColumns; ++c) block.data[r * kColumns + c] = static_cast<double>(b) + 0.25 * static_cast<double>(c);
            CHECK(packer.put(std::move(block)));
        }
        CHECK(packer.wait());
    }
    REQUIRE(first_chunks.size() == kBlocks);
    std::size_t raw = kRows * sizeof(double);
    CHECK(first_chunks.back().size() < raw / 20);  // nothing waited behind it
    CHECK(std::any_of(first_chunks.begin(), first_chunks.end(), [&](const auto& c) { return c.size() > raw && c.size() < raw + 64; }));
    // the planes of the number b: 4,096 times each of its bytes, the lowest first
    test::Scratch scratch;
    test::write_file(scratch / "read.py",
                     "import sys, zlib, struct\nfor b in range(7):\n    data = zlib.decompress(open(f'{sys.argv[1]}/{b}', 'rb').read())\n    assert data == "
                     "b''.join(bytes([x]) * 4096 "
                     "for x in struct.pack('<d', b)), b\nprint('good')\n");
    for (std::size_t b = 0; b < kBlocks; ++b) test::write_file(scratch / std::to_string(b), {first_chunks[b].begin(), first_chunks[b].end()});
    test::Outcome o = test::shell("/usr/bin/python3 " + (scratch / "read.py") + " " + scratch.path());
    INFO(o.err);
    CHECK(o.out == "good\n");
}

TEST_SUITE_END();
