// SPDX-License-Identifier: Apache-2.0
#include "figures/picture_file.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "files/other_program.hpp"
#include "files/output_file.hpp"
#include "netloop/recording.hpp"

namespace netloop {

namespace fs = std::filesystem;

std::string picture_form(const std::string& out)
{
    return out == "-" ? ".svg" : fs::path(out).extension().string();
}

void draw_by(const std::string& program, const std::function<std::vector<std::string>(const std::string&)>& arguments,
             const std::function<std::string(const std::string&)>& input, const std::string& out, const std::vector<std::string>& inputs)
{
    OutputFile file(out, {.what = "a picture", .replaces = is_picture, .inputs = inputs, .by_name = true});
    OwnFolder folder;
    std::string script = (folder / "input").string(), said = (folder / "said").string();
    write_whole(script, input(file.unfinished()), {.what = "the program's input"});
    int code = run_program(program, arguments(file.unfinished()), {.input = script, .said = said});
    std::error_code error;
    if (code == 0 && fs::file_size(file.unfinished(), error) > 0 && !error) return file.publish();
    std::string why = first_words(said);
    if (code == 127) why = fmt::format("the program '{}' is not installed (Debian packages: gnuplot-nox, graphviz)", program);
    if (why.empty()) why = code == 0 ? fmt::format("'{}' wrote nothing: the disk may be full", program) : fmt::format("'{}' ended with {}", program, code);
    throw RecordingError(fmt::format("'{}' cannot be drawn: {}", out, why));
}

}  // namespace netloop
