// SPDX-License-Identifier: Apache-2.0
#include "files/output_file.hpp"

#include <doctest/doctest.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <thread>

#include "files/input_file.hpp"
#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;

namespace {

bool begins_with_ours(const std::string& path)
{
    return first_bytes(path, 4) == "ours";
}
const OutputRules kOurs{.what = "one of ours", .replaces = begins_with_ours};

mode_t mode_of(const std::string& path)
{
    struct stat about {};
    REQUIRE(::stat(path.c_str(), &about) == 0);
    return about.st_mode & 07777;
}

std::size_t n_files(const std::string& folder)
{
    return static_cast<std::size_t>(std::distance(fs::directory_iterator(folder), {}));
}

}  // namespace

TEST_SUITE_BEGIN("files");

TEST_CASE("a text is written as a whole or not at all")
{
    test::Scratch scratch;
    std::string path = scratch / "t.txt";
    write_whole(path, "ours, first", kOurs);
    CHECK(test::read_file(path) == "ours, first");
    write_whole(path, "ours, second", kOurs);
    CHECK(test::read_file(path) == "ours, second");
    CHECK(n_files(scratch.path()) == 1);
    CHECK_THROWS_WITH_AS(write_whole(scratch / "none/t.txt", "x", kOurs), doctest::Contains("there is no folder"), RecordingError);
    CHECK_THROWS_WITH_AS(write_whole(scratch.path(), "x", kOurs), doctest::Contains("it is a folder"), RecordingError);
    CHECK_THROWS_WITH_AS(write_whole("", "x", kOurs), doctest::Contains("empty"), RecordingError);
    CHECK_THROWS_AS(write_whole("/dev/full/t.txt", "x", kOurs), RecordingError);
    CHECK_THROWS_WITH_AS(write_whole(scratch / std::string(300, 'n'), "x", kOurs), doctest::Contains("too long"), RecordingError);
}

TEST_CASE("until it is published what stood there stands, and without it nothing is left")
{
    test::Scratch scratch;
    std::string path = scratch / "t";
    test::write_file(path, "ours");
    {
        OutputFile file(path, kOurs);
        file.write("ours, half");
        CHECK(test::read_file(path) == "ours");
        CHECK(fs::exists(path + ".unfinished"));
    }
    CHECK(test::read_file(path) == "ours");
    CHECK(n_files(scratch.path()) == 1);
    {
        OutputFile file(path, kOurs);
        file.write("kept");
        file.keep();
    }
    CHECK(test::read_file(path + ".unfinished") == "kept");
}

TEST_CASE("neither inputs nor models nor what is not ours is written over")
{
    test::Scratch scratch;
    test::write_file(scratch / "in.csv", "ours");
    OutputRules rules = kOurs;
    rules.inputs = {scratch / "in.csv"};
    fs::create_symlink(scratch / "in.csv", scratch / "link.csv");
    fs::create_hard_link(scratch / "in.csv", scratch / "hard.csv");
    for (const char* name : {"in.csv", "link.csv", "hard.csv", "./in.csv"}) {
        INFO(name);
        CHECK_THROWS_WITH_AS(write_whole(scratch / name, "x", rules), doctest::Contains("it is read here"), RecordingError);
    }
    CHECK_THROWS_WITH_AS(write_whole(scratch / "m.loop", "x", kOurs), doctest::Contains("ends in .loop"), RecordingError);
    write_whole(scratch / "m.loop", "x", {.what = "a model", .model_text = true});
    test::write_file(scratch / "letter", "dear");
    CHECK_THROWS_WITH_AS(write_whole(scratch / "letter", "x", kOurs), doctest::Contains("is not one of ours"), RecordingError);
    test::write_file(scratch / "empty", "");
    write_whole(scratch / "empty", "ours", kOurs);
    CHECK(test::read_file(scratch / "letter") == "dear");
    CHECK(test::read_file(scratch / "in.csv") == "ours");
    fs::permissions(scratch / "in.csv", fs::perms::owner_read | fs::perms::group_read);
    CHECK_THROWS_WITH_AS(write_whole(scratch / "in.csv", "x", kOurs), doctest::Contains("protected"), RecordingError);
}

TEST_CASE("permissions stay, and a link at the name itself is followed")
{
    test::Scratch scratch;
    test::write_file(scratch / "t", "ours");
    for (mode_t mode : {0600, 0640, 0755}) {
        REQUIRE(::chmod((scratch / "t").c_str(), mode) == 0);
        write_whole(scratch / "t", "ours", kOurs);
        CHECK(mode_of(scratch / "t") == mode);
    }
    fs::create_symlink(scratch / "t", scratch / "link");
    write_whole(scratch / "link", "ours, through", kOurs);
    CHECK(fs::is_symlink(scratch / "link"));
    CHECK(test::read_file(scratch / "t") == "ours, through");
    fs::create_symlink(scratch / "later", scratch / "dangling");
    write_whole(scratch / "dangling", "ours", kOurs);
    CHECK(test::read_file(scratch / "later") == "ours");
}

TEST_CASE("nothing is made through a link in the place of the unfinished file")
{
    test::Scratch scratch;
    test::write_file(scratch / "victim", "precious");
    fs::create_symlink(scratch / "victim", scratch / "t.unfinished");
    fs::create_symlink(scratch / "nowhere", scratch / "t.unfinished-2");
    write_whole(scratch / "t", "ours", kOurs);
    CHECK(test::read_file(scratch / "victim") == "precious");
    CHECK_FALSE(fs::exists(scratch / "nowhere"));
    CHECK(test::read_file(scratch / "t") == "ours");
}

TEST_CASE("what is no file is written through; what has to be whole first comes as a whole")
{
    test::Scratch scratch;
    write_whole("/dev/null", "x", kOurs);
    CHECK(fs::is_character_file("/dev/null"));
    CHECK_THROWS_WITH_AS(write_whole("/dev/full", "x", kOurs), doctest::Contains("the disk is full"), RecordingError);
    for (bool by_name : {false, true}) {
        std::string pipe = scratch / (by_name ? "p1" : "p2"), got;
        REQUIRE(::mkfifo(pipe.c_str(), 0600) == 0);
        std::thread reader([&] { got = test::read_file(pipe); });
        OutputRules rules = kOurs;
        rules.by_name = by_name;
        {
            OutputFile file(pipe, rules);
            CHECK(file.written_through());
            CHECK(file.unfinished().empty() != by_name);
            file.write("ours, all of it");
            file.publish();
        }
        reader.join();
        CHECK(got == "ours, all of it");
        CHECK(fs::is_fifo(pipe));
    }
    CHECK(n_files(scratch.path()) == 2);
}

TEST_CASE("two writers are told apart; what one left is told to the next")
{
    test::Scratch scratch;
    std::string path = scratch / "t";
    auto first = std::make_unique<OutputFile>(path, kOurs);
    OutputFile second(path, kOurs);
    CHECK(second.unfinished() != first->unfinished());
    CHECK(second.leftovers().empty());  // somebody writes it
    second.write("ours, second");
    second.publish();
    CHECK(first->written_meanwhile());
    CHECK(first->replaces_something());
    first->write("ours, first");
    first->publish();
    CHECK(test::read_file(path) == "ours, first");
    {
        OutputFile left(path, kOurs);
        left.keep();
    }
    OutputFile next(path, kOurs);
    CHECK(next.leftovers() == std::vector<std::string>{path + ".unfinished"});
    CHECK_FALSE(next.written_meanwhile());
}

TEST_CASE("files from outside are read within bounds")
{
    test::Scratch scratch;
    test::write_file(scratch / "t", "some text");
    CHECK(read_text_file(scratch / "t", 100) == "some text");
    CHECK(read_text_file(scratch / "t", 9) == "some text");
    CHECK_THROWS_WITH_AS(read_text_file(scratch / "t", 8), doctest::Contains("more than"), FileProblem);
    CHECK_THROWS_WITH_AS(read_text_file(scratch / "none", 8), doctest::Contains("no such file"), FileProblem);
    CHECK_THROWS_WITH_AS(read_text_file(scratch.path(), 8), doctest::Contains("a folder"), FileProblem);
    CHECK_THROWS_WITH_AS(read_text_file("/dev/zero", std::size_t{1} << 40), doctest::Contains("zero bytes"), FileProblem);
    test::write_file(scratch / "z", std::string("text\0text", 9));
    CHECK_THROWS_WITH_AS(read_text_file(scratch / "z", 100), doctest::Contains("no UTF-8 text"), FileProblem);
    CHECK(first_bytes(scratch / "t", 4) == "some");
    CHECK(first_bytes(scratch / "t", 400) == "some text");
    CHECK(first_bytes("/dev/zero", 4).empty());
    CHECK(first_bytes(scratch / "none", 4).empty());
}

TEST_SUITE_END();
