// SPDX-License-Identifier: Apache-2.0
// docs/api.md is made from the public headers: every class and call with what its header promises. NETLOOP_RETELL=1 writes it anew.
#include <doctest/doctest.h>

#include <cstdlib>
#include <sstream>

#include "support/support.hpp"

TEST_SUITE_BEGIN("structure");

namespace {

const std::vector<std::string> kHeaders{"library",      "builder", "system", "run",      "recording", "compare",  "verification", "cost",
                                        "linear_model", "modes",   "advise", "property", "units",     "quantity", "error"};

std::string trimmed(std::string s)
{
    while (!s.empty() && (s.back() == ' ' || s.back() == '\r')) s.pop_back();
    std::size_t first = s.find_first_not_of(' ');
    return first == std::string::npos ? "" : s.substr(first);
}

// Reads a header as clang-format has laid it out: a comment stands above its declaration, or behind it; declarations without a blank line between them share
// the comment above the first.
class Reader {
public:
    explicit Reader(const std::string& text) : in_(text) {}

    std::string page;
    std::vector<std::string> untold;  ///< functions without a comment

    void read()
    {
        std::string about;
        for (std::string raw; std::getline(in_, raw);) {
            std::string line = trimmed(raw);
            if (line.starts_with("// ") && !begun_) {
                if (!line.starts_with("// SPDX")) about += (about.empty() ? "" : " ") + line.substr(3);
                continue;
            }
            if (line.starts_with("#pragma once")) {
                begun_ = true;
                page += about + "\n";
                continue;
            }
            if (!begun_ || line.starts_with("#") || line.starts_with("namespace") || line.starts_with("NETLOOP_LITERAL")) continue;
            take(line);
        }
    }

private:
    struct Scope {
        std::string name;
        bool hidden = false;
    };

    void take(const std::string& line)
    {
        if (line.empty()) {
            if (declaration_.empty()) shared_ = false;
            return;
        }
        if (line.starts_with("///")) {
            if (!commenting_) comment_.clear();
            commenting_ = true;
            shared_ = false;
            std::string text = line.size() > 4 ? line.substr(4) : "";
            // an example keeps its lines
            comment_ += text.starts_with("    ") ? "\n" + text : text.empty() ? "\n\n" : (comment_.empty() || comment_.ends_with("\n") ? "" : " ") + text;
            return;
        }
        if (line.starts_with("//")) return;
        commenting_ = false;
        if (line == "public:" || line == "private:") {
            if (!scopes_.empty()) scopes_.back().hidden = line == "private:";
            return;
        }
        if (line.starts_with("}")) {
            if (skipping_ > 0)
                --skipping_;
            else if (!scopes_.empty() && declaration_.empty()) {
                bool told = !scopes_.back().hidden;
                scopes_.pop_back();
                resumed_ = told && !scopes_.empty() ? scopes_.back().name : "";
            }
            return;
        }
        if (skipping_ > 0) {
            if (line.ends_with("{")) ++skipping_;
            return;
        }
        std::string code = line, behind;
        if (std::size_t at = code.find("///<"); at != std::string::npos) {
            behind = trimmed(code.substr(at + 4));
            code = trimmed(code.substr(0, at));
        }
        declaration_ += (declaration_.empty() ? "" : " ") + code;
        bool opens = code.ends_with("{"), ends = code.ends_with(";") || code.ends_with("}");
        if (!opens && !ends) return;
        finish(opens, behind);
    }

    void finish(bool opens, const std::string& behind)
    {
        std::string d = declaration_;
        declaration_.clear();
        bool hidden = false;
        for (const Scope& s : scopes_) hidden |= s.hidden;
        bool type = (d.starts_with("class ") || d.starts_with("struct ")) && opens;
        if (type) {
            std::string name = d.substr(d.find(' ') + 1);
            name = name.substr(0, name.find_first_of(" :{"));
            if (!hidden) {
                resumed_.clear();
                page += "\n" + std::string(scopes_.empty() ? "### " : "#### ") + name + "\n" + comment_ + "\n";
                if (comment_.empty() && !behind.empty()) page += behind + "\n";
            }
            scopes_.push_back({name, hidden || false});
            comment_.clear();
            shared_ = false;
            return;
        }
        if (opens) ++skipping_;
        bool forward = (d.starts_with("class ") || d.starts_with("struct ")) && !opens;
        if (hidden || forward || d.starts_with("friend") || d.starts_with("template") || d.starts_with("using Error::")) return;
        for (const char* body : {") {", ") const {"})
            if (std::size_t at = d.find(body); at != std::string::npos && (d.ends_with("}") || opens)) d = d.substr(0, at + std::string(body).size() - 2);
        if (std::size_t list = d.find(") : "); list != std::string::npos) d = d.substr(0, list + 1);
        bool function = d.find('(') != std::string::npos && d.find("std::function") == std::string::npos && !d.starts_with("enum");
        bool own = function && scopes_.size() > 0 &&
                   (d.find("~") != std::string::npos || d.find("&&) noexcept") != std::string::npos || d.find("= default") != std::string::npos);
        if (own) return;
        if (d.ends_with(";")) d.pop_back();
        std::string told = !behind.empty() ? behind : shared_ && function ? "" : comment_;
        if (!resumed_.empty()) page += "\n#### " + resumed_ + ", further\n\n";
        resumed_.clear();
        page += fold(d, told);
        if (function && told.empty() && !shared_) untold.push_back((scopes_.empty() ? "" : scopes_.back().name + "::") + d);
        shared_ = (function || d.starts_with("enum")) && (shared_ || !comment_.empty() || !behind.empty());
        comment_.clear();
    }

    static std::string fold(const std::string& declaration, const std::string& told)
    {
        return "- `" + declaration + "`" + (told.empty() ? "" : "  \n  ") + told + "\n";
    }

    std::istringstream in_;
    bool begun_ = false, commenting_ = false, shared_ = false;
    std::string comment_, declaration_;
    std::string resumed_;  ///< the type whose members go on behind an inner one
    std::vector<Scope> scopes_;
    int skipping_ = 0;
};

}  // namespace

TEST_CASE("the page of the C++ interface is that of the headers, and every call is told")
{
    std::string page =
        "# The C++ interface\n\nMade from the headers in `include/netloop/` (`NETLOOP_RETELL=1`, suite `structure`); `#include <netloop/netloop.hpp>` brings "
        "all of them. Namespace "
        "`netloop`.\nA call shares the promise of the one above it where it has none of its own. All values are in SI unless a unit is said.\n";
    for (const std::string& name : kHeaders) {
        Reader reader(test::read_file(test::source_path("include/netloop/" + name + ".hpp")));
        reader.read();
        page += "\n## " + name + ".hpp\n" + reader.page;
        for (const std::string& call : reader.untold) FAIL_CHECK(name << ".hpp says nothing of " << call);
    }
    std::string path = test::source_path("docs/api.md");
    if (const char* retell = std::getenv("NETLOOP_RETELL"); retell != nullptr && std::string(retell) == "1") test::write_file(path, page);
    CHECK(page.size() > 20000);
    bool same = test::read_file(path) == page;
    CHECK_MESSAGE(same, "docs/api.md is not what the headers say: NETLOOP_RETELL=1 makes it anew");
}

TEST_SUITE_END();
