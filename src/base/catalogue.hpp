// SPDX-License-Identifier: Apache-2.0
// Every message about a user's model, in one place: its stable slug, its severity, its text with holes.
// Text: lower case, no full stop, the user's names in single quotes, what is wrong and what was expected.
// docs/messages.md explains each slug; tests/base/test_catalogue.cpp holds the two together.
#pragma once

#include <string_view>

namespace netloop {

enum class Severity { note, warning, error };

struct Message {
    std::string_view slug;
    Severity severity;
    std::string_view text;
};

// clang-format off
#define NETLOOP_MESSAGES(X) \
    /* reading */ \
    X(not_text, error, "not-text", "the file is not UTF-8 text (byte {})") \
    X(file_not_found, error, "file-not-found", "file '{}' cannot be read: {}") \
    X(unit_refused, error, "unit-refused", "unit '{}' cannot be used: {}") \
    X(file_too_large, error, "file-too-large", "file '{}' has {} MiB, more than the {} MiB that a model file may have") \
    X(number_out_of_range, error, "number-out-of-range", "the number {} is outside the range of floating point") \
    X(text_not_closed, error, "text-not-closed", "a text in quotes is not closed on its line") \
    X(stray_character, error, "stray-character", "unexpected character '{}'") \
    X(expected_token, error, "expected-token", "expected {}, found {}") \
    X(expected_end, error, "expected-end", "expected the end of {}, found {}") \
    X(reserved_word, error, "reserved-word", "'{}' is a reserved word and cannot be the name of {}") \
    X(said_twice, error, "said-twice", "'{}' is said twice{}") \
    X(second_equals, error, "second-equals", "a second '=' in one equation") \
    X(assignment_outside, error, "assignment-outside", "':=' stands outside a when, every or stage block") \
    X(unknown_statement, error, "unknown-statement", "'{}' does not begin a statement here") \
    X(nested_too_deeply, error, "nested-too-deeply", "nested more than {} levels deep") \
    X(function_too_large, error, "function-too-large", "a call of '{}' makes more than {} calls of other functions") \
    X(table_shape, error, "table-shape", "a row of the table has {} values where {} are expected") \
    X(literal_divisor, warning, "literal-divisor", "'{}' is divided by as a whole, its unit included") \
    /* names and definitions */ \
    X(bad_unit, error, "bad-unit", "{}") \
    X(name_taken, error, "name-taken", "'{}' is declared twice in {}") \
    X(unknown_name, error, "unknown-name", "'{}' is not known in {}") \
    X(unknown_kind, error, "unknown-kind", "no {} is called '{}'") \
    X(not_a, error, "not-a", "'{}' is {}, where {} is expected") \
    X(ambiguous_name, error, "ambiguous-name", "'{}' is defined by both '{}' and '{}'") \
    X(circular_use, error, "circular-use", "circular use of files: {}") \
    X(circular_definition, error, "circular-definition", "circular definition: {}") \
    X(base_as_part, error, "base-as-part", "'{}' is a base component: it can be taken over, not used as a part") \
    X(missing_value, error, "missing-value", "param '{}' of part '{}' needs a value") \
    X(wrong_argument_count, error, "wrong-argument-count", "'{}' takes {} arguments, {} are given") \
    X(unexpected_here, error, "unexpected-here", "{} cannot stand here") \
    X(unsupported, error, "not-supported-yet", "not supported yet: {}") \
    X(bad_index, error, "bad-index", "index {} of '{}' is outside 1 .. {}") \
    X(bad_size, error, "bad-size", "the size of '{}' is {}: a whole number from 0 to {} is expected") \
    X(not_constant, error, "not-constant", "{} must be known when the model is compiled, but it depends on {}") \
    X(bad_value, error, "bad-value", "{}") \
    X(not_collected, error, "not-collected", "no run of the study gives '{}'") \
    X(bad_table, error, "bad-table", "table '{}': {}") \
    X(function_no_result, error, "function-no-result", "function '{}' ends without giving its result") \
    /* units of expressions */ \
    X(unit_mismatch, error, "unit-mismatch", "{} [{}] {} {} [{}]") \
    X(unit_of_argument, error, "unit-of-argument", "'{}' expects {} here, found [{}]") \
    X(unit_said_twice, error, "unit-said-twice", "the units of '{}' contradict each other: {} is in [{}], but {} in [{}]") \
    X(unit_of_value, error, "unit-of-value", "'{}' is declared in [{}], the value is in [{}]") \
    X(bare_number, error, "bare-number", "'{}' is declared in [{}], the value {} has no unit") \
    X(bare_zero, error, "bare-zero", "a bare 0 is ambiguous where '{}' is declared in [{}]") \
    X(offset_in_sum, error, "offset-in-sum", "{} is a point on a scale with an offset and cannot be {}") \
    X(power_unit, error, "power-unit", "in 'x^y' either y is a constant or both are dimensionless; x is in [{}]") \
    X(not_a_condition, error, "not-a-condition", "a condition is expected, found a quantity in [{}]") \
    X(not_a_number, error, "not-a-number", "a number is expected, found a condition") \
    X(unchecked_quantity, note, "unchecked-quantity", "'{}' has no unit and is not checked") \
    X(unchecked_strict, error, "unchecked-strict", "'{}' has no unit") \
    /* joints and signals */ \
    X(wrong_domain, error, "wrong-domain", "port '{}' ({}) is joined to port '{}' ({})") \
    X(needed_port, error, "needed-port", "port '{}' must be joined, and is in no joint") \
    X(unjoined_port, note, "unjoined-port", "port '{}' is in no joint: nothing flows through it") \
    X(open_port, note, "open-port", "port '{}' is in no joint: its {} stays at {}") \
    X(two_sources, error, "two-sources", "input '{}' has two sources") \
    X(no_source, error, "no-source", "input '{}' has no source") \
    X(no_fluid, error, "no-fluid", "no part gives a fluid to the circuit of {}") \
    X(two_fluids, error, "two-fluids", "the circuit of {} is given two different fluids, '{}' and '{}'") \
    X(library_fluid, note, "library-fluid", "the circuit of {} is filled with '{}' of the library") \
    X(bare_radians, warning, "bare-radians", "'{}' is declared in [rad], the value {} has no unit: it is taken as radians") \
    X(wrong_fluid, error, "wrong-fluid", "fluid '{}' is no '{}', which port '{}' asks for") \
    X(leaving_unsaid, error, "leaving-unsaid", "port '{}' carries '{}', but '{}' does not say what leaves through it") \
    X(branch_counts, error, "branch-counts", "the branches hold {} and {} equations; with a condition that can change they must hold equally many") \
    X(out_of_range, error, "out-of-range", "'{}' is {}, outside its range {} .. {}") \
    /* moments */ \
    X(stage_silent, error, "stage-silent", "stage '{}' of sequence '{}' does not say '{}'") \
    X(not_settable, error, "not-settable", "'{}' is {} and cannot be set by ':='") \
    X(block_only, error, "block-only", "'{}' can only stand in a when, every or start block") \
    /* structure */ \
    X(too_many_equations, error, "too-many-equations", "too many equations: these {} equations settle only {} unknowns") \
    X(too_few_equations, error, "too-few-equations", "too few equations: nothing settles {}") \
    X(constraint_redundant, error, "constraint-redundant", "the constraint {} follows from others, or contradicts them: it says nothing new") \
    X(slot_unfit, error, "slot-unfit", "'{}' does not fit {} '{}': {}") \
    X(not_differentiable, error, "not-differentiable", "the equation must be differentiated for index reduction, but {}") \
    /* scenarios and runs */ \
    X(no_system, error, "no-system", "{}") \
    X(choose_scenario, error, "choose-scenario", "the file has several scenarios: {}")
// clang-format on

namespace messages {
#define NETLOOP_DEFINE_MESSAGE(name, severity, slug, text) inline constexpr Message name{slug, Severity::severity, text};
NETLOOP_MESSAGES(NETLOOP_DEFINE_MESSAGE)
#undef NETLOOP_DEFINE_MESSAGE
}  // namespace messages

}  // namespace netloop
