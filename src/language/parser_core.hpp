// SPDX-License-Identifier: Apache-2.0
// The parser's cursor and the declarations shared by its four files (expressions, statements, definitions, scenarios).
#pragma once

#include <initializer_list>

#include "language/lexer.hpp"
#include "language/parser.hpp"

namespace netloop {

/// Thrown inside the parser only: reading of the current statement ends, and goes on behind it.
struct StatementAbandoned {};

class Parser {
public:
    Parser(const SourceSet& sources, std::vector<Token> tokens, SyntaxArena& arena, Diagnostics& diagnostics)
        : sources_(sources), tokens_(std::move(tokens)), arena_(arena), diagnostics_(diagnostics)
    {
    }

    Block file();
    const Expr* only_expression();
    NamedValue only_value();

private:
    // --- cursor
    const Token& now() const { return tokens_[at_]; }
    const Token& ahead(std::size_t n = 1) const { return tokens_[std::min(at_ + n, tokens_.size() - 1)]; }
    const Token& last() const { return tokens_[at_ == 0 ? 0 : at_ - 1]; }
    bool is(std::string_view word) const { return now().is(word); }
    bool is_name() const { return now().kind == TokenKind::name; }
    bool accept(std::string_view word);
    void expect(std::string_view word, std::string_view after);
    const Token& take() { return tokens_[at_ < tokens_.size() - 1 ? at_++ : at_]; }
    /// True at `;`, `}`, the end of the file, or the end of a line that does not go on.
    bool at_statement_end() const;
    bool line_goes_on() const;
    void end_statement(std::string_view what);
    void skip_statement();
    [[noreturn]] void abandon(const Message& message, Span span, std::string_view a = {}, std::string_view b = {}, std::string hint = {});
    std::string name(std::string_view what, Span* span = nullptr);
    Span from(Span begin) const { return cover(begin, last().span); }

    // --- expressions
    const Expr* expression();
    const Expr* or_expression();
    const Expr* and_expression();
    const Expr* not_expression();
    const Expr* comparison();
    const Expr* sum();
    const Expr* term();
    const Expr* signed_power();
    const Expr* power();
    const Expr* postfix();
    const Expr* primary();
    const Expr* number_literal(bool negative);
    const Expr* path_or_call();
    const Expr* call(Expr* path);
    const Expr* chain(const Expr* (Parser::*operand)(), std::initializer_list<std::pair<std::string_view, char>> operators);
    Path path(std::string_view what);
    std::vector<const Expr*> indices();
    bool unit_follows() const;
    Span unit_tokens();
    Unit unit_at(Span span);
    std::optional<Unit> declared_unit();

    // --- statements
    Block block(const Statement* (Parser::*statement)(), std::string_view what);
    template <typename T>
    const Statement* finish(Span begin, std::string doc, T node, std::string_view what);
    /// The same for several that one statement declares: the first is returned, the others wait in extra_.
    template <typename T>
    const Statement* finish_list(Span begin, const std::string& doc, std::vector<T> list, std::string_view what);
    const Statement* top_statement();
    const Statement* component_statement();
    const Statement* action_statement();
    bool keyword_here(std::string_view word) const;
    QuantityDecl quantity(QuantityKind kind);
    void quantity_type(QuantityDecl& q);
    const Statement* declaration_list(QuantityKind kind);
    const Statement* open_units();
    const Statement* port_declaration();
    const Statement* part_declaration();
    const Statement* slot_declaration();
    const Statement* fluid_use();
    const Statement* joint_declaration();
    const Statement* init_statement();
    const Statement* guess_statement();
    const Statement* if_statement(const Statement* (Parser::*inner)());
    const Statement* for_statement(const Statement* (Parser::*inner)());
    const Statement* when_statement();
    const Statement* every_statement();
    const Statement* equation_like(bool assignments);
    KindUse kind_use(std::string_view what);
    /// `value` or, for a slot, `Kind(...)`: names followed by brackets that are empty or begin with `name =`.
    void value_or_kind(NamedValue& v);
    bool looks_like_kind() const;
    std::vector<NamedValue> named_values();
    /// Whether units that each use of a component settles may stand here; as it was again at the end of the scope.
    struct OpenUnits {
        OpenUnits(Parser& parser, bool taken) : parser_(parser), before_(parser.open_units_) { parser.open_units_ = taken; }
        ~OpenUnits() { parser_.open_units_ = before_; }
        OpenUnits(const OpenUnits&) = delete;
        OpenUnits& operator=(const OpenUnits&) = delete;

    private:
        Parser& parser_;
        bool before_;
    };
    bool open_units_ = false;
    std::vector<const Statement*> extra_;  ///< further statements of a list such as `port a, b : hydraulic`

    // --- definitions
    const Statement* use_declaration();
    const Statement* component_definition();
    const Statement* domain_definition();
    const Statement* function_definition();
    const Statement* table_definition();
    void table_points(TableDecl& table);
    double table_number();
    const Statement* fluid_definition(bool base);
    const Statement* fluid_statement();
    const Statement* sequence_definition();
    Stage stage(bool otherwise);
    std::vector<KindUse> takes();
    std::vector<FunctionArgument> arguments();

    // --- scenarios
    const Statement* scenario_definition();
    const Statement* scenario_item();
    const Statement* output_item();
    const Statement* begin_item();
    const Statement* keep_item();
    const Statement* tolerance_item();
    std::vector<std::string> patterns(const char* behind);
    const Statement* figure_item();

    // --- catalogues and studies
    const Statement* catalogue_definition();
    const Statement* catalogue_entry();
    const Statement* study_definition();
    void study_item(StudyDecl& study);
    VaryItem vary_item();
    TakeItem take_item();
    KeepRecordings keep_recordings();
    double whole_number(std::string_view what);

    struct Nested {
        explicit Nested(Parser& parser) : parser_(parser) { parser_.enter(); }
        ~Nested() { --parser_.depth_; }
        Nested(const Nested&) = delete;
        Nested& operator=(const Nested&) = delete;
        Parser& parser_;
    };
    void enter();

    const SourceSet& sources_;
    std::vector<Token> tokens_;
    SyntaxArena& arena_;
    Diagnostics& diagnostics_;
    std::size_t at_ = 0;
    int depth_ = 0;
    int open_brackets_ = 0;
};

template <typename T>
const Statement* Parser::finish_list(Span begin, const std::string& doc, std::vector<T> list, std::string_view what)
{
    const Statement* first = finish(begin, doc, std::move(list.front()), what);
    for (std::size_t i = 1; i < list.size(); ++i) {
        Statement* s = arena_.statement(first->span);
        s->doc = first->doc;
        s->node = std::move(list[i]);
        extra_.push_back(s);
    }
    return first;
}

template <typename T>
const Statement* Parser::finish(Span begin, std::string doc, T node, std::string_view what)
{
    Statement* s = arena_.statement(begin);
    s->node = std::move(node);
    s->doc = std::move(doc);
    if (s->doc.empty()) s->doc = last().doc_after;
    end_statement(what);
    s->span = from(begin);
    return s;
}

}  // namespace netloop
