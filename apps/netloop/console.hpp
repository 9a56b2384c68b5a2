// SPDX-License-Identifier: Apache-2.0
// What the commands print. Neither a closed nor a full output ends the program in the middle: main() tells of it at the end, and returns 1.
#pragma once

#include <fmt/format.h>

#include <atomic>
#include <nlohmann/json.hpp>
#include <string>
#include <utility>

/// Text for standard output, or for standard error once an output of the command goes to standard output itself.
void show_text(const std::string& text);
template <typename... Args>
void show(fmt::format_string<Args...> form, Args&&... args)
{
    show_text(fmt::format(form, std::forward<Args>(args)...));
}
/// JSON with its line end; what is no UTF-8 (a file's name) is shown with replacement characters.
void show_json(const nlohmann::json& value);

/// Notes and errors, for standard error.
void tell_text(const std::string& text);
template <typename... Args>
void tell(fmt::format_string<Args...> form, Args&&... args)
{
    tell_text(fmt::format(form, std::forward<Args>(args)...));
}

/// The same for a text that stands in the program, where nothing can be allocated.
void tell_without_memory(const char* text);

/// From now on standard output belongs to what the command writes: results are shown on standard error.
void output_is_taken();

/// Opens what is closed of standard input, output and error, so that no file of ours gets their numbers; a file that would grow too large is an error of its
/// writer; Ctrl-C and SIGTERM are noted, and a second one ends the program at once.
void prepare_console();
/// Whether the program was asked to end.
const std::atomic<bool>& interrupted();
/// What is left to print is printed; false, and told, if something could not be.
bool finish_console();
