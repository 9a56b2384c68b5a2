// SPDX-License-Identifier: Apache-2.0
#include "language/lexer.hpp"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>

namespace netloop {
namespace {

bool is_letter(char c)
{
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_';
}
bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

// Longest first, so that `--` is never read as two minus signs.
constexpr std::array<std::string_view, 33> kPunctuation{"--", "->", ":=", "==", "!=", "<=", ">=", "..", "(", ")", "[", "]", "{",  "}", ",", ";", ":",
                                                        ".",  "=",  "<",  ">",  "+",  "-",  "*",  "/",  "^", "'", "%", "|", "\\", "@", "?", "!"};

class Lexer {
public:
    Lexer(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics) : text_(sources.text(file)), file_(file), diagnostics_(diagnostics) {}

    std::vector<Token> run()
    {
        if (text_.starts_with("\xef\xbb\xbf")) at_ = 3;
        while (skip_space(), at_ < text_.size()) next();
        Token end;
        end.span = span(text_.size(), text_.size());
        end.line_before = true;
        tokens_.push_back(std::move(end));
        return std::move(tokens_);
    }

private:
    Span span(std::size_t begin, std::size_t end) const { return {file_, static_cast<std::uint32_t>(begin), static_cast<std::uint32_t>(end)}; }

    void skip_space()
    {
        while (at_ < text_.size()) {
            char c = text_[at_];
            if (c == '\n') {
                if (blank_line_) doc_.clear();  // a comment block followed by an empty line belongs to nothing below
                blank_line_ = true;
                line_before_ = true;
                ++at_;
            } else if (c == ' ' || c == '\t' || c == '\r') {
                space_before_ = true;
                ++at_;
            } else if (c == '#') {
                comment();
            } else {
                return;
            }
        }
    }

    void comment()
    {
        std::size_t end = text_.find('\n', at_);
        if (end == std::string_view::npos) end = text_.size();
        bool is_doc = at_ + 1 < text_.size() && text_[at_ + 1] == '#';
        if (is_doc) {
            std::string_view line = text_.substr(at_ + 2, end - at_ - 2);
            if (line.starts_with(' ')) line.remove_prefix(1);
            while (!line.empty() && (line.back() == '\r' || line.back() == ' ' || line.back() == '\t')) line.remove_suffix(1);
            bool behind = !line_before_ && !tokens_.empty();
            std::string& doc = behind ? tokens_.back().doc_after : doc_;
            if (!doc.empty()) doc += '\n';
            doc += line;
        }
        blank_line_ = false;
        at_ = end;
    }

    void push(TokenKind kind, std::size_t begin, std::size_t end)
    {
        Token token;
        token.kind = kind;
        token.text = text_.substr(begin, end - begin);
        token.span = span(begin, end);
        token.space_before = space_before_ || line_before_;
        token.line_before = line_before_ || tokens_.empty();
        token.doc_before = std::move(doc_);
        doc_.clear();
        space_before_ = line_before_ = blank_line_ = false;
        tokens_.push_back(std::move(token));
    }

    void next()
    {
        std::size_t begin = at_;
        char c = text_[at_];
        if (is_letter(c)) {
            while (at_ < text_.size() && (is_letter(text_[at_]) || is_digit(text_[at_]))) ++at_;
            push(TokenKind::name, begin, at_);
        } else if (is_digit(c) || (c == '.' && at_ + 1 < text_.size() && is_digit(text_[at_ + 1]))) {
            number(begin);
        } else if (c == '"') {
            quoted(begin);
        } else {
            for (std::string_view mark : kPunctuation) {
                if (text_.substr(at_).starts_with(mark)) {
                    at_ += mark.size();
                    push(TokenKind::punctuation, begin, at_);
                    return;
                }
            }
            stray(begin);
        }
    }

    void number(std::size_t begin)
    {
        while (at_ < text_.size() && is_digit(text_[at_])) ++at_;
        // "1..n" is a range: a point belongs to the number only if a digit follows it
        if (at_ + 1 < text_.size() && text_[at_] == '.' && is_digit(text_[at_ + 1])) {
            ++at_;
            while (at_ < text_.size() && is_digit(text_[at_])) ++at_;
        }
        std::size_t mark = at_;
        if (at_ < text_.size() && (text_[at_] == 'e' || text_[at_] == 'E')) {
            ++at_;
            if (at_ < text_.size() && (text_[at_] == '+' || text_[at_] == '-')) ++at_;
            if (at_ < text_.size() && is_digit(text_[at_])) {
                while (at_ < text_.size() && is_digit(text_[at_])) ++at_;
            } else {
                at_ = mark;
            }
        }
        double value = 0;
        auto [end, error] = std::from_chars(text_.data() + begin, text_.data() + at_, value);
        push(TokenKind::number, begin, at_);
        if (error != std::errc{} || !std::isfinite(value)) {
            diagnostics_.report(messages::number_out_of_range, tokens_.back().span, tokens_.back().text.substr(0, 40));
            value = 0;
        }
        tokens_.back().number = value;
    }

    void quoted(std::size_t begin)
    {
        std::size_t end = text_.find_first_of("\"\n", begin + 1);
        if (end == std::string_view::npos || text_[end] != '"') {
            if (end == std::string_view::npos) end = text_.size();
            diagnostics_.report(messages::text_not_closed, span(begin, end));
            at_ = end;
            push(TokenKind::text, begin, end);
            tokens_.back().text.remove_prefix(1);
            return;
        }
        at_ = end + 1;
        push(TokenKind::text, begin, at_);
        tokens_.back().text = text_.substr(begin + 1, end - begin - 1);
    }

    void stray(std::size_t begin)
    {
        ++at_;
        while (at_ < text_.size() && (static_cast<unsigned char>(text_[at_]) & 0xc0u) == 0x80u) ++at_;
        std::string_view shown = text_.substr(begin, at_ - begin);
        bool printable = static_cast<unsigned char>(shown[0]) >= 0x20;
        struct Written {
            std::string_view sign, here;
        };
        // what engineers type in units and formulas
        static constexpr Written kWritten[] = {
            {"\u00b5", "u"},        {"\u03bc", "u"},  {"\u03a9", "ohm"}, {"\u2126", "ohm"}, {"\u00b0", "deg, degC for a temperature"},
            {"\u00b2", "^2"},       {"\u00b3", "^3"}, {"\u00b9", "^1"},  {"\u207b", "^-"},  {"\u00b7", "*"},
            {"\u22c5", "*"},        {"\u00d7", "*"},  {"\u00f7", "/"},   {"\u2212", "-"},   {"\u2013", "-"},
            {"\u2030", "permille"}, {"\u2264", "<="}, {"\u2265", ">="},  {"\u2260", "!="},  {"\u03c0", "pi"},
            {"\u201c", "\""},       {"\u201d", "\""}, {"\u201e", "\""},  {"\u2192", "->"}};
        const auto* known = std::find_if(std::begin(kWritten), std::end(kWritten), [&](const Written& w) { return w.sign == shown; });
        diagnostics_.report(messages::stray_character, span(begin, at_), printable ? shown : "?")
            .mend(known != std::end(kWritten) ? fmt::format("write {}", known->here) : "");
    }

    std::string_view text_;
    std::uint32_t file_;
    Diagnostics& diagnostics_;
    std::vector<Token> tokens_;
    std::string doc_;
    std::size_t at_ = 0;
    bool space_before_ = false;
    bool line_before_ = true;
    bool blank_line_ = false;
};

}  // namespace

std::vector<Token> tokenize(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics)
{
    return Lexer(sources, file, diagnostics).run();
}

}  // namespace netloop
