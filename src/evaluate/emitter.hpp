// SPDX-License-Identifier: Apache-2.0
// The few instructions that generated code needs, so that no other file knows the assembler library or the processor.
// x86-64 under the System V calling convention; other processors have no emitter yet and interpret.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>

namespace netloop {

/// Executable code; written once, then read and executed only.
class CodePages {
public:
    /// Takes `size` bytes of pages that `write(bytes)` fills, then makes them executable and no longer writable. Null if the system refuses
    /// or `write` returns false.
    template <typename Write>
    static std::unique_ptr<CodePages> make(std::size_t size, Write write)
    {
        auto pages = std::unique_ptr<CodePages>(new CodePages(size));
        if (pages->bytes_ == nullptr || !write(pages->bytes_) || !pages->protect()) return nullptr;
        return pages;
    }
    ~CodePages();
    CodePages(const CodePages&) = delete;
    CodePages& operator=(const CodePages&) = delete;
    const void* entry() const { return bytes_; }
    std::size_t size() const { return size_; }

private:
    explicit CodePages(std::size_t size);
    bool protect();
    void* bytes_ = nullptr;
    std::size_t size_ = 0;
};

/// A function `void(double* memory, double* scratch)` in the making. Vector registers are numbered 0 .. kRegisters - 1; each holds one
/// number, or in wide code four, one for each of four instances that follow each other.
class Emitter {
public:
    static constexpr int kRegisters = 14;  ///< two more are kept for the emitter itself and for temp
    static constexpr int kTemp = 14;

    /// Where numbers lie.
    struct Spot {
        enum class Kind : std::uint8_t {
            memory,    ///< at[0] of the memory
            scratch,   ///< at[0] of the scratch
            instance,  ///< wide: at[instance] of the memory
            same,      ///< wide: at[0] of the memory, for all instances alike
            listed,    ///< wide: memory[list[instance]]
            zero,
            one,  ///< constants
            sign,
            all_but_sign
        } kind = Kind::memory;
        std::uint32_t at = 0;
        const std::uint32_t* list = nullptr;

        /// Whether an instruction can read it without a load.
        bool is_operand() const { return kind != Kind::same && kind != Kind::listed; }
    };
    enum class Binary : std::uint8_t { add, sub, mul, div, min, max, bit_and, bit_or, bit_xor, less, less_equal, equal, not_equal, unordered };

    enum class Encoding : std::uint8_t { best, older };  ///< older: as processors without AVX need it; for tests
    explicit Emitter(Encoding encoding = Encoding::best);
    ~Emitter();
    Emitter(const Emitter&) = delete;
    Emitter& operator=(const Emitter&) = delete;

    /// Whether this processor can run generated code, and wide code.
    static bool available();
    static bool wide_available();

    /// From here on code for one instance; or a loop over n instances, n >= 4, closed by end_loop().
    void begin_loop(std::uint32_t n);
    void end_loop();

    void load(int to, Spot from);
    void store(Spot to, int from);
    void move(int to, int from);
    /// Compares give all bits set or none; unordered: whether one of the two is not a number. min and max: the first if it is smaller (larger), else the
    /// second.
    void binary(Binary op, int to, int a, int b);
    void binary(Binary op, int to, int a, Spot b);
    void sqrt(int to, int a);
    void round(int to, int a, bool up);
    /// Lane by lane: `yes` where the mask has bits set.
    void blend(int to, int mask, int yes, int no);

    // Calls. All vector registers are lost.
    /// double f(double, double) with register 0 (and 1) as arguments; the result is in register 0.
    void call(double (*f)(double));
    void call(double (*f)(double, double));
    /// double f(double, double, const void*, flag), likewise.
    void call(double (*f)(double, double, const void*, std::uint32_t), const void* what, std::uint32_t flag);
    /// void f(to, a, b, what, flag): numbers of four lanes in the scratch.
    using LaneFunction = void (*)(double* to, const double* a, const double* b, const void* what, std::uint32_t flag);
    void call_lanes(LaneFunction f, std::uint32_t to, std::uint32_t a, std::uint32_t b, const void* what, std::uint32_t flag);
    /// double f(const void* what, const double* numbers, list): numbers is the memory, or in wide code void f(...) on the scratch.
    using ListFunction = double (*)(const void* what, double* numbers, const std::uint32_t* list);
    void call_listed(ListFunction f, const void* what, const std::uint32_t* list);

    /// The finished function; null if the assembler or the system refuses. Nothing may be emitted after it.
    std::unique_ptr<CodePages> finish();

private:
    struct Data;
    std::unique_ptr<Data> data_;
};

}  // namespace netloop
