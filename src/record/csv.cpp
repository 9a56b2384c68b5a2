// RFC 4180: first column `time [s]`, headings `path [unit]`, values in display units with all their digits.
#include <fmt/format.h>

#include <charconv>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>

#include "record/reader.hpp"
#include "record/writer.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

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
    CsvWriter(std::string path, const RecordingHead& head) : path_(std::move(path)), unfinished_(unfinished_name(path_)), columns_(head.columns)
    {
        file_ = std::fopen(unfinished_.c_str(), "wb");
        if (file_ == nullptr) throw RecordingError(fmt::format("'{}' cannot be written", path_));
        std::string line;
        for (const Column& c : columns_) line += (line.empty() ? "" : ",") + quoted(c.name + " [" + c.unit + "]");
        put(line + "\r\n");
    }
    ~CsvWriter() override
    {
        if (file_ == nullptr) return;
        std::fclose(file_);
        if (n_rows_ == 0) std::remove(unfinished_.c_str());
    }
    CsvWriter(const CsvWriter&) = delete;
    CsvWriter& operator=(const CsvWriter&) = delete;

    void row(const double* values) override
    {
        line_.clear();
        for (std::size_t i = 0; i < columns_.size(); ++i) {
            if (i > 0) line_ += ',';
            fmt::format_to(std::back_inserter(line_), "{}", (values[i] - columns_[i].offset) / columns_[i].scale + 0.0);  // no "-0"
        }
        line_ += "\r\n";
        put(line_);
        ++n_rows_;
        auto now = std::chrono::steady_clock::now();
        if (now - flushed_ > std::chrono::seconds(2)) {
            if (std::fflush(file_) != 0) full();
            flushed_ = now;
        }
    }
    void finish(bool, const std::string&) override
    {
        bool ok = std::fclose(file_) == 0;
        file_ = nullptr;
        if (n_rows_ == 0) {
            std::remove(unfinished_.c_str());
            return;
        }
        if (!ok) full();
        give_name(unfinished_, path_);
    }

private:
    void put(const std::string& text)
    {
        if (std::fwrite(text.data(), 1, text.size(), file_) != text.size()) full();
    }
    [[noreturn]] void full()
    {
        throw RecordingError(fmt::format("'{}' cannot be written: the disk is full or failed; what was written stays in '{}'", path_, unfinished_));
    }

    std::string path_, unfinished_;
    std::vector<Column> columns_;
    std::FILE* file_ = nullptr;
    std::string line_;
    std::size_t n_rows_ = 0;
    std::chrono::steady_clock::time_point flushed_ = std::chrono::steady_clock::now();
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

std::unique_ptr<RecordingWriter> open_csv_writer(const std::string& path, const RecordingHead& head)
{
    return std::make_unique<CsvWriter>(path, head);
}

Recording read_csv(const std::string& path)
{
    std::ifstream in(path, std::ios::binary);
    if (!in) throw RecordingError(fmt::format("recording '{}' cannot be read", path));
    std::string text{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
    Recording r;
    std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;
    std::vector<Unit> units;
    for (const std::string& heading : split(text, at)) {
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
        if (r.find(c.name) != nullptr) throw RecordingError(fmt::format("'{}': two columns are called '{}'", path, c.name));
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
