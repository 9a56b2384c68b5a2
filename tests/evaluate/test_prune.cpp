// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include "evaluate/prune.hpp"

using namespace netloop;

TEST_SUITE_BEGIN("evaluate");

TEST_CASE("a program cut down keeps what is needed, and gives the same")
{
    // places 0, 1 are read; 2 = a + b; 3 = a * b; 4 = 2 * 3; 5 = -b; a kernel of four instances on 2, 5, 3 and 4 gives 6 to 9
    Program p;
    p.name = "all";
    Kernel straight;
    straight.code = {{Op::add, 0, 2, 0, 1, 0}, {Op::mul, 0, 3, 0, 1, 0}, {Op::mul, 0, 4, 2, 3, 0}, {Op::neg, 0, 5, 1, 0, 0}};
    Kernel loop;
    loop.n_instances = 4, loop.n_inputs = 1, loop.n_registers = 2;
    loop.inputs = {2, 5, 3, 4};
    loop.code = {{Op::neg, 0, 1, 0, 0, 0}};
    loop.output_registers = {1};
    loop.outputs = {6, 7, 8, 9};
    p.kernels = {straight, loop};
    p.results = {4, 6, 7, 8, 9};
    Program four = pruned(p, {4});
    CHECK(four.kernels.size() == 1);
    CHECK(four.n_operations() == 3);
    Program six = pruned(p, {6, 8, 9});
    CHECK(six.n_operations() == 6);  // add, both multiplications, and three instances
    Program seven = pruned(p, {7});
    CHECK(seven.kernels.size() == 2);
    CHECK(seven.n_operations() == 4);  // add and neg, and the instance that gives it, with a neighbour
    CHECK(pruned(p, {0}).kernels.empty());
    std::vector<TablePtr> tables;
    std::vector<CallablePtr> functions;
    std::vector<double> memory{3, 5, 0, 0, 0, 0, 0, 0, 0, 0}, scratch;
    for (Program* made : {&four, &seven}) {
        prepare(*made, {tables, functions});
        execute(*made, Evaluator::plain, memory, scratch);
    }
    CHECK(memory[4] == 120);
    CHECK(memory[8] == 0);  // nobody asked for it
    CHECK(memory[7] == 5);
    prepare(six, {tables, functions});
    memory[7] = 0;
    execute(six, Evaluator::plain, memory, scratch);
    CHECK(memory[6] == -8);
    CHECK(memory[7] == 0);
    CHECK(memory[8] == -15);
    CHECK(memory[9] == -120);
}

TEST_SUITE_END();
