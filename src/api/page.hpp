// SPDX-License-Identifier: Apache-2.0
// A definition as a page of a handbook: first what stands on it, then how it is set: as text, Markdown or JSON.
#pragma once

#include <string>
#include <vector>

#include "model/library_set.hpp"

namespace netloop {

struct PageRow {
    std::string name, unit, value, range, text;
};
struct PageEquation {
    std::string source;   ///< as written
    std::string formula;  ///< LaTeX; empty for what is no formula (joints, branches, blocks)
};
struct PageSection {
    std::string title;
    std::vector<PageRow> rows;            ///< a table of symbols, or
    std::vector<PageEquation> equations;  ///< statements
};
struct Page {
    std::string name, kind;
    std::string purpose;    ///< what it is and does
    std::string neglected;  ///< what it leaves out or takes as ideal
    std::string origin;     ///< where its equations come from
    std::string example;
    std::string instead;  ///< a simpler component, and when it will do: "ReliefValve, where the travel of the spool does not matter"
    std::vector<std::string> takes_over;
    std::vector<PageSection> sections;
};

Page make_page(LibrarySet& set, const Definition& definition);
std::string page_as_text(const Page& page);
/// `level`: of the heading; links to pages of other libraries are relative, library.md#name.
std::string page_as_markdown(const Page& page, int level);
std::string page_as_json(const Page& page);
/// The anchor that renderers give a heading.
std::string page_anchor(const std::string& name);
/// An expression as LaTeX: fractions, roots, powers, cases.
std::string latex_of(const Expr& e);
/// The kind of a definition in a word: "component", "fluid" ...
std::string kind_of(const Definition& definition);

}  // namespace netloop
