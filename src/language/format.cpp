// SPDX-License-Identifier: Apache-2.0
#include "language/format.hpp"

#include <algorithm>
#include <array>
#include <map>
#include <stdexcept>
#include <vector>

#include "language/lexer.hpp"

namespace netloop {
namespace {

constexpr std::size_t kIndent = 4, kCommentGap = 4, kFarthestComment = 100, kStraggler = 20;

template <std::size_t N>
bool among(std::string_view word, const std::array<std::string_view, N>& list)
{
    return std::find(list.begin(), list.end(), word) != list.end();
}

// Begin declarations that stand in columns; padded to the width of "param ".
constexpr std::array<std::string_view, 9> kDeclare{"param", "const", "input", "output", "var", "let", "memory", "port", "part"};
constexpr std::array<std::string_view, 3> kPadded{"slot", "init", "unit"};
constexpr std::array<std::string_view, 13> kApart{"=", ":=", "==", "!=", "<=", ">=", "<", ">", "--", "->", "..", ":", "|"};
constexpr std::array<std::string_view, 8> kBeforeOperand{"and", "or", "not", "then", "else", "if", "over", "to"};
// These may be names of quantities, too: then what follows tells.
constexpr std::array<std::string_view, 5> kPerhapsBefore{"in", "when", "after", "until", "against"};

struct Line {
    std::vector<const Token*> tokens;
    std::string comment;  ///< with its '#'
    bool blank = false;
    std::size_t depth = 0;        ///< in levels
    std::string code;             ///< laid out, without indent and comment
    std::vector<std::size_t> at;  ///< of each token in `code`
    std::size_t block = 0;        ///< the open brace it stands in, by number
};

class Formatter {
public:
    Formatter(std::string_view text, const std::vector<Token>& tokens) : text_(text), tokens_(tokens) {}

    std::string run()
    {
        split();
        indent();
        for (Line& l : lines_) write(l);
        columns();
        comments();
        return join();
    }

private:
    std::string_view source(const Token& t) const { return text_.substr(t.span.begin, t.span.end - t.span.begin); }

    void split()
    {
        std::size_t k = 0, begin = text_.starts_with("\xef\xbb\xbf") ? 3 : 0;
        while (begin < text_.size()) {
            std::size_t end = std::min(text_.find('\n', begin), text_.size()), last = begin;
            Line line;
            for (; k < tokens_.size() && tokens_[k].kind != TokenKind::end && tokens_[k].span.begin < end; ++k) {
                line.tokens.push_back(&tokens_[k]);
                last = tokens_[k].span.end;
            }
            std::string rest(text_.substr(last, end - last));
            std::size_t from = rest.find('#'), to = rest.find_last_not_of(" \t\r");
            if (from != std::string::npos) line.comment = rest.substr(from, to - from + 1);
            if (line.comment.starts_with("##") && line.comment.size() > 2 && line.comment[2] != ' ' && line.comment[2] != '#') line.comment.insert(2, " ");
            line.blank = line.tokens.empty() && line.comment.empty();
            lines_.push_back(std::move(line));
            begin = end + 1;
        }
    }

    static bool opens(const Token& t) { return t.is("{") || t.is("(") || t.is("["); }
    static bool closes(const Token& t) { return t.is("}") || t.is(")") || t.is("]"); }
    // A statement that ends like this goes on.
    static bool unfinished(const Token& t)
    {
        if (t.kind == TokenKind::name) return t.is("and") || t.is("or") || t.is("then") || t.is("else") || t.is("not");
        return t.kind == TokenKind::punctuation && !closes(t) && !t.is(";") && !t.is("{") && !t.is("'") && !t.is("%");
    }
    static bool continues(const Token& t)
    {
        return t.is("--") || t.is("->") || t.is("+") || t.is("-") || t.is("*") || t.is("/") || t.is("and") || t.is("or") || t.is("else") || t.is("=") ||
               t.is("then");
    }

    // Braces count as levels; what goes on over lines stands one level further in.
    void indent()
    {
        std::vector<char> open;
        std::vector<std::size_t> blocks{0};
        std::size_t n_blocks = 0;
        bool goes_on = false;
        for (Line& l : lines_) {
            auto braces = static_cast<std::size_t>(std::count(open.begin(), open.end(), '{'));
            bool bracket = !open.empty() && open.back() != '{';
            bool first_closes = !l.tokens.empty() && closes(*l.tokens.front());
            l.depth = braces;
            if (first_closes && l.tokens.front()->is("}") && l.depth > 0) --l.depth;
            if (!l.tokens.empty() && !first_closes && (bracket || goes_on || continues(*l.tokens.front()))) ++l.depth;
            if (l.tokens.empty() && bracket) ++l.depth;
            l.block = blocks.back();
            for (const Token* t : l.tokens) {
                if (opens(*t)) {
                    open.push_back(t->text[0]);
                    if (t->is("{")) blocks.push_back(++n_blocks);
                } else if (closes(*t) && !open.empty()) {
                    if (open.back() == '{' && blocks.size() > 1) blocks.pop_back();
                    open.pop_back();
                }
            }
            if (!l.tokens.empty()) goes_on = unfinished(*l.tokens.back());
        }
    }

    // Whether an operator at `k` has an operand before it.
    static bool after_operand(const Line& l, std::size_t k)
    {
        if (k == 0) return false;
        const Token& t = *l.tokens[k - 1];
        if (t.kind == TokenKind::number || t.kind == TokenKind::text) return true;
        if (t.kind == TokenKind::name && among(t.text, kPerhapsBefore)) return k + 1 >= l.tokens.size() || l.tokens[k + 1]->space_before;
        if (t.kind == TokenKind::name) return !among(t.text, kBeforeOperand);
        return t.is(")") || t.is("]") || t.is("'") || t.is("%");
    }

    bool blank_before(const Line& l, std::size_t k, std::size_t brackets) const
    {
        const Token &a = *l.tokens[k - 1], &b = *l.tokens[k];
        if (b.is(",") || b.is(")") || b.is("]") || b.is("'") || b.is(".")) return false;
        if (a.is("(") || a.is("[") || a.is(".")) return false;
        if (a.is(",") || a.is(";") || b.is(";") || a.is("{") || b.is("{") || a.is("}") || b.is("}")) return true;
        if (b.kind == TokenKind::punctuation && among(b.text, kApart)) return true;
        if (a.kind == TokenKind::punctuation && among(a.text, kApart)) return true;
        bool sign_a = a.is("+") || a.is("-"), sign_b = b.is("+") || b.is("-");
        if (a.is("-") && b.is("-")) return true;  // together they would be a joint
        // s^-1 is one word; so is an index: cell[n-1]
        if (sign_b && a.is("^")) return false;
        if (sign_a && k >= 2 && l.tokens[k - 2]->is("^")) return false;
        if (brackets > 0 && (sign_a || sign_b)) return b.space_before;
        if (sign_b && after_operand(l, k)) return range_end(l, k) ? b.space_before : true;
        if (sign_a) return after_operand(l, k - 1) ? (range_end(l, k - 1) ? b.space_before : true) : false;
        return b.space_before;
    }
    // n-1 in "1 .. n-1" and in "part k[n-1]" is one word to the eye.
    static bool range_end(const Line& l, std::size_t k) { return k >= 2 && l.tokens[k - 2]->is(".."); }

    void write(Line& l) const
    {
        std::size_t brackets = 0;
        for (std::size_t k = 0; k < l.tokens.size(); ++k) {
            const Token& t = *l.tokens[k];
            if (k > 0 && blank_before(l, k, brackets)) l.code += ' ';
            if (k == 1 && l.tokens.size() > 2 && begins_declaration(l)) l.code.resize(std::max<std::size_t>(l.code.size(), 6), ' ');
            if (t.is("[")) ++brackets;
            if (t.is("]") && brackets > 0) --brackets;
            l.at.push_back(l.code.size());
            l.code += source(t);
        }
    }

    static bool begins_declaration(const Line& l)
    {
        if (l.tokens.size() < 3 || l.tokens[0]->kind != TokenKind::name || l.tokens[1]->kind != TokenKind::name) return false;
        return among(l.tokens[0]->text, kDeclare) || among(l.tokens[0]->text, kPadded);
    }

    static std::size_t width(const std::string& text)
    {
        return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0u) != 0x80u; }));
    }

    // The token that stands in a column with those of its neighbours: kind of column and token; none: kind 0.
    static std::pair<int, std::size_t> anchor(const Line& l)
    {
        const auto& ts = l.tokens;
        if (ts.empty()) return {0, 0};
        bool several = std::any_of(ts.begin(), ts.end(), [](const Token* t) { return t->is(";"); });
        if (ts.size() > 3 && ts[0]->kind == TokenKind::name && among(ts[0]->text, kDeclare) && ts[1]->kind == TokenKind::name && !several) {
            std::size_t brackets = 0;
            for (std::size_t k = 2; k < ts.size(); ++k) {
                if (ts[k]->is("[")) ++brackets;
                if (ts[k]->is("]") && brackets > 0) --brackets;
                if (brackets == 0 && ts[k]->is(":")) return {1, k};
                if (ts[k]->is("=") || ts[k]->is("{") || ts[k]->is("(")) break;
            }
            return {0, 0};
        }
        if (ts.size() > 2 && ts[0]->is("stage") && ts[1]->kind == TokenKind::name && ts[2]->is("{")) return {2, 2};
        if (ts.size() > 1 && ts[0]->is("otherwise") && ts[1]->is("{")) return {2, 1};
        if (ts.size() > 3 && ts[0]->is("->") && (ts[2]->is("when") || ts[2]->is("after"))) return {3, 2};
        if (!several && !ts[0]->is("->"))
            for (std::size_t k = 1; k + 1 < ts.size(); ++k)
                if (ts[k]->is("->") && ts[0]->kind != TokenKind::end) return {4, k};
        return {0, 0};
    }

    // Lines of one kind of column that follow each other; of a sequence all of its stages, and all of its ways out.
    void columns()
    {
        std::vector<std::vector<std::size_t>> groups;
        std::map<std::pair<std::size_t, int>, std::size_t> of_block;
        int last_kind = 0;
        std::size_t last_depth = 0;
        for (std::size_t i = 0; i < lines_.size(); ++i) {
            const Line& l = lines_[i];
            int kind = anchor(l).first;
            if (kind == 2 || kind == 3) {
                auto [it, fresh] = of_block.emplace(std::pair{l.block, kind}, groups.size());
                if (fresh) groups.emplace_back();
                groups[it->second].push_back(i);
            } else if (kind != 0) {
                if (kind != last_kind || l.depth != last_depth || groups.empty()) groups.emplace_back();
                groups.back().push_back(i);
            }
            last_kind = kind == 2 || kind == 3 ? 0 : kind;
            last_depth = l.depth;
        }
        for (const auto& group : groups) align(group);
    }

    // Those that would push the column far out stay as they are.
    void align(const std::vector<std::size_t>& group)
    {
        auto place = [&](std::size_t i) { return width(lines_[i].code.substr(0, lines_[i].at[anchor(lines_[i]).second])); };
        std::size_t least = std::string::npos, column = 0;
        for (std::size_t i : group) least = std::min(least, place(i));
        for (std::size_t i : group)
            if (place(i) <= least + kStraggler) column = std::max(column, place(i));
        for (std::size_t i : group) {
            Line& l = lines_[i];
            std::size_t token = anchor(l).second, here = place(i);
            if (here >= column) continue;
            l.code.insert(l.at[token], column - here, ' ');
            for (std::size_t k = token; k < l.at.size(); ++k) l.at[k] += column - here;
        }
    }

    // Comments behind lines that follow each other stand in a column.
    void comments()
    {
        for (std::size_t i = 0; i < lines_.size();) {
            std::size_t end = i, column = 0;
            while (end < lines_.size() && !lines_[end].tokens.empty() && lines_[end].depth == lines_[i].depth) {
                std::size_t wide = width(lines_[end].code) + kIndent * lines_[end].depth;
                if (!lines_[end].comment.empty() && wide <= kFarthestComment) column = std::max(column, wide);
                ++end;
            }
            for (std::size_t k = i; k < end; ++k) {
                Line& l = lines_[k];
                if (l.comment.empty()) continue;
                std::size_t wide = width(l.code) + kIndent * l.depth;
                l.code += std::string(std::max(column, wide) + kCommentGap - wide, ' ') + l.comment;
                l.comment.clear();
            }
            i = std::max(end, i + 1);
        }
    }

    std::string join() const
    {
        std::string out;
        bool blank = false, opened = true;  // no empty line at the beginning, behind an opening brace, before a closing one, at the end
        for (const Line& l : lines_) {
            if (l.blank) {
                blank = true;
                continue;
            }
            bool closing = !l.tokens.empty() && closes(*l.tokens.front());
            if (blank && !opened && !closing) out += '\n';
            blank = false;
            out += std::string(kIndent * l.depth, ' ') + l.code + l.comment + '\n';
            opened = !l.tokens.empty() && opens(*l.tokens.back());
        }
        return out;
    }

    std::string_view text_;
    const std::vector<Token>& tokens_;
    std::vector<Line> lines_;
};

// Same tokens on the same lines, with the same documentation, and blanks where they mean something.
// Gives the first token that differs, or npos.
std::size_t first_change(const std::vector<Token>& a, const std::vector<Token>& b)
{
    for (std::size_t i = 0; i < a.size(); ++i) {
        if (i >= b.size()) return i;
        if (a[i].kind != b[i].kind || a[i].text != b[i].text || a[i].line_before != b[i].line_before || a[i].doc_before != b[i].doc_before ||
            a[i].doc_after != b[i].doc_after)
            return i;
        bool in_unit =
            i > 0 &&
            (a[i].is("*") || a[i].is("/") || a[i].is("^") || a[i].is("%") || a[i].is("(") || a[i].kind == TokenKind::name || a[i].kind == TokenKind::number) &&
            (a[i - 1].kind == TokenKind::name || a[i - 1].kind == TokenKind::number || a[i - 1].is("*") || a[i - 1].is("/") || a[i - 1].is("^") ||
             a[i - 1].is(")"));
        if (in_unit && a[i].space_before != b[i].space_before) return i;
    }
    return std::string::npos;
}

}  // namespace

std::string formatted(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics)
{
    std::string_view text = sources.text(file);
    std::vector<Token> tokens = tokenize(sources, file, diagnostics);
    if (diagnostics.has_errors()) return std::string(text);
    std::string made = Formatter(text, tokens).run();
    SourceSet again;
    Diagnostics none;
    std::uint32_t other = again.add(sources.path(file), made);
    std::size_t changed = first_change(tokens, tokenize(again, other, none));
    if (changed != std::string::npos)
        throw std::logic_error("laid out, '" + sources.path(file) + "' would mean something else from '" + std::string(tokens[changed].text) +
                               "' on, in line " + std::to_string(1 + std::count(text.begin(), text.begin() + tokens[changed].span.begin, '\n')));
    return made;
}

}  // namespace netloop
