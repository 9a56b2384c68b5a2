// SPDX-License-Identifier: Apache-2.0
// Everything that is written goes through here: an output appears under its name only when it is whole and on the disk, and what is not ours is never touched.
#pragma once

#include <sys/stat.h>

#include <cstddef>
#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

/// What may be written over, and how the output is made.
struct OutputRules {
    std::string what = "a file";  ///< for messages: "a recording"
    /// Whether the file of this name may be replaced: it is of the kind that is written. Empty files may always; without it every file may.
    bool (*replaces)(const std::string& path) = nullptr;
    std::vector<std::string> inputs{};  ///< files that are read for the output: never written over
    bool model_text = false;            ///< the output is a model's text; else a name that ends in .loop is refused
    bool by_name = false;               ///< another program or library writes it under the name of unfinished(); else it is written through descriptor()
};

/// A name for mkstemp and its like, in the folder for passing files (TMPDIR, else /tmp): it ends in XXXXXX.
std::string temporary_name();

/// An output under way.
///
/// A regular file grows as `NAME.unfinished` (`NAME.unfinished-2` ... if that is taken), which is made exclusively and never through a link, and is renamed by
/// publish(). A device, a named pipe or `-` (standard output) is written through to. A link is followed at the name itself only: what it points to is replaced.
/// Errors: RecordingError with the name and the reason; what stood under the name is then as it was.
/// Cost: some system calls; publish() waits for the disk. One thread at a time.
class OutputFile {
public:
    OutputFile(const std::string& path, const OutputRules& rules);
    /// Removes what is unfinished, unless it was published or is kept.
    ~OutputFile();
    OutputFile(const OutputFile&) = delete;
    OutputFile& operator=(const OutputFile&) = delete;

    const std::string& path() const { return path_; }              ///< as the user gave it
    const std::string& unfinished() const { return unfinished_; }  ///< an absolute path; empty where it is written through
    int descriptor() const { return descriptor_; }                 ///< open for writing
    bool written_through() const { return stream_ >= 0; }          ///< a device, a pipe, standard output
    bool to_standard_output() const { return path_ == "-"; }
    /// Files of earlier writers of this name that never ended, and that nobody writes now.
    const std::vector<std::string>& leftovers() const { return leftovers_; }
    /// Whether the file that stands under the name is there, and is another than when this output began.
    bool written_meanwhile() const;
    /// Whether a file stands under the name.
    bool replaces_something() const;

    /// Through descriptor(). Throws with the reason: a full disk.
    void write(const char* data, std::size_t size);
    void write(const std::string& text) { write(text.data(), text.size()); }
    /// All on the disk, with the permissions of what it replaces, and under its name.
    void publish();
    /// Stays unfinished, under its own name: what was written can be read.
    void keep();

private:
    void open_stream(int descriptor, bool by_name);
    void open_beside(const OutputRules& rules);
    [[noreturn]] void refuse(const std::string& why) const;
    void close_descriptor();

    std::string path_, target_, unfinished_;
    std::vector<std::string> leftovers_;
    int descriptor_ = -1, stream_ = -1;
    bool there_ = false, done_ = false;
    struct stat before_ {};  ///< of what stood there at the beginning
};

/// A text written as a whole. Throws RecordingError.
void write_whole(const std::string& path, const std::string& text, const OutputRules& rules);

/// Whether a file is one of these, by its first bytes: for OutputRules::replaces.
bool is_picture(const std::string& path);
bool is_report(const std::string& path);
bool is_xml(const std::string& path);

}  // namespace netloop
