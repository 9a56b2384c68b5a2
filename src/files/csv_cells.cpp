// SPDX-License-Identifier: Apache-2.0
#include "files/csv_cells.hpp"

namespace netloop {
namespace {

std::string without_blanks(const std::string& s)
{
    constexpr const char* kBlank = " \t\r";
    std::size_t begin = s.find_first_not_of(kBlank), end = s.find_last_not_of(kBlank);
    return begin == std::string::npos ? "" : s.substr(begin, end - begin + 1);
}

}  // namespace

std::vector<std::vector<CsvCell>> csv_rows(std::string_view text)
{
    std::vector<std::vector<CsvCell>> rows;
    std::vector<CsvCell> row;
    std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;
    while (at < text.size()) {
        CsvCell cell;
        std::string quoted;
        bool in_quotes = false, was_quoted = false;
        cell.begin = at;
        for (; at < text.size(); ++at) {
            char c = text[at];
            if (in_quotes && c == '"' && at + 1 < text.size() && text[at + 1] == '"') {
                cell.text += c;
                ++at;
            } else if (c == '"' && (in_quotes || without_blanks(cell.text).empty())) {
                if (!in_quotes) cell.text.clear();
                in_quotes = !in_quotes;
                was_quoted = true;
                if (!in_quotes) quoted = cell.text;
            } else if (!in_quotes && (c == ',' || c == '\n')) {
                break;
            } else {
                cell.text += c;
            }
        }
        cell.end = at;
        cell.text = was_quoted && !in_quotes ? quoted : without_blanks(cell.text);
        bool more = at < text.size() && text[at] == ',';
        ++at;
        row.push_back(std::move(cell));
        if (more && at < text.size()) continue;
        if (more) row.push_back({"", text.size(), text.size()});
        bool empty = row.size() == 1 && row[0].text.empty();
        if (!empty && !row[0].text.starts_with('#')) rows.push_back(std::move(row));
        row.clear();
    }
    return rows;
}

CsvHeading csv_heading(const std::string& cell)
{
    std::size_t open = cell.rfind('[');
    if (open == std::string::npos || cell.back() != ']') return {without_blanks(cell), ""};
    return {without_blanks(cell.substr(0, open)), without_blanks(cell.substr(open + 1, cell.size() - open - 2))};
}

std::string csv_quoted(const std::string& cell)
{
    if (cell.find_first_of(",\"\n\r") == std::string::npos) return cell;
    std::string out = "\"";
    for (char c : cell) out += c == '"' ? "\"\"" : std::string(1, c);
    return out + "\"";
}

}  // namespace netloop
