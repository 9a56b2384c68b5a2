// SPDX-License-Identifier: Apache-2.0
// RFC 4180: first column `time [s]`, headings `path [unit]`, values in display units with all their digits.
#include <fmt/format.h>

#include <charconv>
#include <chrono>
#include <cmath>
#include <unordered_set>

#include "files/input_file.hpp"
#include "record/reader.hpp"
#include "record/writer.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

constexpr std::size_t kMostText = 4096 * kMiB;  // of a recording that is read
constexpr std::size_t kMostColumns = 1000000;

std::string quoted(const std::string& text)
{
    if (text.find_first_of(",\"\r\n") == std::string::npos) return text;
    std::string out = "\"";
    for (char c : text) {
        if (c == '"') out += '"';
        out += c;
    }
    return out + "\"";
}

class CsvWriter : public RecordingWriter {
public:
    CsvWriter(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs)
        : file_(path, recording_rules(inputs, false)), columns_(head.columns)
    {
        for (const Column& c : columns_) text_ += (text_.empty() ? "" : ",") + quoted(c.name + " [" + c.unit + "]");
        text_ += "\r\n";
    }
    ~CsvWriter() override
    {
        if (!finished_ && n_rows_ > 0 && !file_.written_through()) file_.keep();
    }
    CsvWriter(const CsvWriter&) = delete;
    CsvWriter& operator=(const CsvWriter&) = delete;

    void row(const double* values) override
    {
        for (std::size_t i = 0; i < columns_.size(); ++i) {
            if (i > 0) text_ += ',';
            fmt::format_to(std::back_inserter(text_), "{}", (values[i] - columns_[i].offset) / columns_[i].scale + 0.0);  // no "-0"
        }
        text_ += "\r\n";
        ++n_rows_;
        auto now = std::chrono::steady_clock::now();
        if (text_.size() < kTogether && now - written_ < std::chrono::seconds(1)) return;
        put();
        written_ = now;
    }
    Filed finish(bool complete, const std::string&) override
    {
        if (n_rows_ == 0) return {};
        put();
        finished_ = true;
        return file_away(file_, complete, false);
    }

private:
    static constexpr std::size_t kTogether = 1 << 16;  // bytes

    void put()
    {
        try {
            file_.write(text_);
            text_.clear();
        } catch (const RecordingError& error) {
            if (file_.written_through()) throw;
            throw RecordingError(fmt::format("{}; what was written stays in '{}'", error.what(), file_.unfinished()));
        }
    }

    OutputFile file_;
    std::vector<Column> columns_;
    std::string text_;  ///< not written yet
    std::size_t n_rows_ = 0;
    bool finished_ = false;
    std::chrono::steady_clock::time_point written_ = std::chrono::steady_clock::now();
};

std::vector<std::string> split(const std::string& text, std::size_t& at)
{
    std::vector<std::string> fields(1);
    bool inside = false;
    for (; at < text.size(); ++at) {
        char c = text[at];
        if (inside) {
            if (c == '"' && at + 1 < text.size() && text[at + 1] == '"')
                fields.back() += text[++at];
            else if (c == '"')
                inside = false;
            else
                fields.back() += c;
        } else if (c == '"') {
            inside = true;
        } else if (c == ',') {
            fields.emplace_back();
        } else if (c == '\n') {
            ++at;
            break;
        } else if (c != '\r') {
            fields.back() += c;
        }
    }
    return fields;
}

}  // namespace

std::unique_ptr<RecordingWriter> open_csv_writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs)
{
    return std::make_unique<CsvWriter>(path, head, inputs);
}

Recording read_csv(const std::string& path)
{
    std::string text;
    try {
        text = read_text_file(path, kMostText);
    } catch (const FileProblem& problem) {
        throw RecordingError(fmt::format("'{}' is no recording: {}", path, problem.what()));
    }
    Recording r;
    if (is_unfinished_name(path)) {  // the last line may be half a line
        r.complete = false;
        r.reason = "the run did not end";
        text.resize(text.rfind('\n') + 1);
    }
    std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;
    std::vector<Unit> units;
    std::unordered_set<std::string> names;
    std::vector<std::string> headings = split(text, at);
    if (headings.empty() || !headings[0].starts_with("time"))
        throw RecordingError(fmt::format("'{}' is no recording: its first column is not 'time [s]'", path));
    if (headings.size() > kMostColumns) throw RecordingError(fmt::format("'{}': {} columns; at most {} are read", path, headings.size(), kMostColumns));
    for (const std::string& heading : headings) {
        Column c;
        Unit unit;
        UnitProblem problem;
        std::size_t open = heading.rfind(" [");
        c.name = open == std::string::npos ? heading : heading.substr(0, open);
        std::string written = open == std::string::npos || heading.back() != ']' ? "1" : heading.substr(open + 2, heading.size() - open - 3);
        if (written == "bool" || written.empty())
            unit.text = written;
        else if (!parse_unit(written, unit, problem))
            throw RecordingError(fmt::format("'{}', column '{}': {}", path, c.name, problem.text));
        c.unit = unit.text;
        c.scale = unit.scale;
        c.offset = unit.offset;
        units.push_back(unit);
        if (!names.insert(c.name).second) throw RecordingError(fmt::format("'{}': two columns are called '{}'", path, c.name));
        r.columns.push_back(std::move(c));
    }
    if (r.columns.empty() || r.columns[0].name != "time") throw RecordingError(fmt::format("'{}' is no recording: its first column is not 'time [s]'", path));
    if (!(units[0].dimension == Dimension::base(2)))
        throw RecordingError(fmt::format("'{}': the time is in [{}], which is no unit of time", path, r.columns[0].unit));
    for (std::size_t line = 2; at < text.size(); ++line) {
        std::vector<std::string> fields = split(text, at);
        if (fields.size() == 1 && fields[0].empty()) continue;
        if (fields.size() != r.columns.size())
            throw RecordingError(fmt::format("'{}', line {}: {} fields where {} are expected", path, line, fields.size(), r.columns.size()));
        for (std::size_t i = 0; i < fields.size(); ++i) {
            double v = 0;
            auto [end, error] = std::from_chars(fields[i].data(), fields[i].data() + fields[i].size(), v);
            if (error != std::errc{} || end != fields[i].data() + fields[i].size())
                throw RecordingError(fmt::format("'{}', line {}: '{}' is not a number (column '{}')", path, line, fields[i], r.columns[i].name));
            r.columns[i].values.push_back(units[i].to_si(v));
        }
        const std::vector<double>& t = r.time().values;
        if (!std::isfinite(t.back())) throw RecordingError(fmt::format("'{}', line {}: the time is {}", path, line, t.back()));
        if (t.size() > 1 && t.back() < t[t.size() - 2])
            throw RecordingError(fmt::format("'{}', line {}: the time goes back from {:g} s to {:g} s", path, line, t[t.size() - 2], t.back()));
    }
    return r;
}

}  // namespace netloop
