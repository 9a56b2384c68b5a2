// SPDX-License-Identifier: Apache-2.0
#include "evaluate/emitter.hpp"

#include <sys/mman.h>

#include <array>

#if defined(__x86_64__)
#include <asmjit/asmjit.h>
#endif

namespace netloop {

CodePages::CodePages(std::size_t size) : size_(size)
{
    void* pages = mmap(nullptr, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (pages != MAP_FAILED) bytes_ = pages;
}

CodePages::~CodePages()
{
    if (bytes_ != nullptr) munmap(bytes_, size_);
}

bool CodePages::protect()
{
    return mprotect(bytes_, size_, PROT_READ | PROT_EXEC) == 0;
}

#if defined(__x86_64__)

namespace {

using namespace asmjit;

// What generated code refers to by its fourth register; four lanes each.
struct alignas(32) LaneConstants {
    std::uint64_t zero[4] = {0, 0, 0, 0};
    double one[4] = {1, 1, 1, 1};
    std::uint64_t sign[4] = {1ull << 63, 1ull << 63, 1ull << 63, 1ull << 63};
    std::uint64_t all_but_sign[4] = {~(1ull << 63), ~(1ull << 63), ~(1ull << 63), ~(1ull << 63)};
};
const LaneConstants kConstants;

const x86::Gp kMemory = x86::rbx, kScratch = x86::r12, kConstantBase = x86::r13, kInstance = x86::r14, kList = x86::r15;
constexpr int kOwnTemp = 15;

// One operation in the three forms of the instruction; compares are told apart by a number.
struct Forms {
    InstId older, scalar, packed;
    int predicate = -1;
};

const Forms& forms(Emitter::Binary op)
{
    namespace I = x86::Inst;
    // in the order of Emitter::Binary
    static constexpr std::array<Forms, 14> kForms{{{I::kIdAddsd, I::kIdVaddsd, I::kIdVaddpd},
                                                   {I::kIdSubsd, I::kIdVsubsd, I::kIdVsubpd},
                                                   {I::kIdMulsd, I::kIdVmulsd, I::kIdVmulpd},
                                                   {I::kIdDivsd, I::kIdVdivsd, I::kIdVdivpd},
                                                   {I::kIdMinsd, I::kIdVminsd, I::kIdVminpd},
                                                   {I::kIdMaxsd, I::kIdVmaxsd, I::kIdVmaxpd},
                                                   {I::kIdAndpd, I::kIdVandpd, I::kIdVandpd},
                                                   {I::kIdOrpd, I::kIdVorpd, I::kIdVorpd},
                                                   {I::kIdXorpd, I::kIdVxorpd, I::kIdVxorpd},
                                                   {I::kIdCmpsd, I::kIdVcmpsd, I::kIdVcmppd, 1},
                                                   {I::kIdCmpsd, I::kIdVcmpsd, I::kIdVcmppd, 2},
                                                   {I::kIdCmpsd, I::kIdVcmpsd, I::kIdVcmppd, 0},
                                                   {I::kIdCmpsd, I::kIdVcmpsd, I::kIdVcmppd, 4},
                                                   {I::kIdCmpsd, I::kIdVcmpsd, I::kIdVcmppd, 3}}};
    return kForms[static_cast<std::size_t>(op)];
}

bool has_avx()
{
    return CpuInfo::host().features().x86().hasAVX();
}

}  // namespace

struct Emitter::Data {
    explicit Data(bool use_avx) : avx(use_avx)
    {
        code.init(Environment::host());
        code.setErrorHandler(&refusals);
        code.attach(&a);
    }
    /// Without it a refused instruction would be left out in silence.
    struct Refusals : ErrorHandler {
        void handleError(Error, const char*, BaseEmitter*) override { any = true; }
        bool any = false;
    };
    Refusals refusals;
    CodeHolder code;
    x86::Assembler a;
    bool avx, wide = false;
    std::uint32_t n = 0;
    Label loop;

    x86::Vec reg(int i) const { return wide ? x86::Vec(x86::ymm(static_cast<std::uint32_t>(i))) : x86::Vec(x86::xmm(static_cast<std::uint32_t>(i))); }
    static x86::Xmm xmm(int i) { return x86::xmm(static_cast<std::uint32_t>(i)); }

    x86::Mem address(Spot s) const
    {
        auto bytes = [](std::uint32_t at) { return static_cast<std::int32_t>(at * sizeof(double)); };
        auto constant = [](std::size_t offset) { return x86::ptr(kConstantBase, static_cast<std::int32_t>(offset)); };
        switch (s.kind) {
            case Spot::Kind::scratch:
                return x86::ptr(kScratch, bytes(s.at));
            case Spot::Kind::instance:
                return x86::ptr(kMemory, kInstance, 3, bytes(s.at));
            case Spot::Kind::zero:
                return constant(offsetof(LaneConstants, zero));
            case Spot::Kind::one:
                return constant(offsetof(LaneConstants, one));
            case Spot::Kind::sign:
                return constant(offsetof(LaneConstants, sign));
            case Spot::Kind::all_but_sign:
                return constant(offsetof(LaneConstants, all_but_sign));
            default:
                return x86::ptr(kMemory, bytes(s.at));
        }
    }

    void call_address(const void* f)
    {
        if (wide) a.vzeroupper();                             // what is called may be code of the older encoding
        a.mov(x86::rax, reinterpret_cast<std::uint64_t>(f));  // may be further away than two gigabytes
        a.call(x86::rax);
    }

    // to = a op b for code with three operands; `b` a register or an address
    template <typename Operand>
    void three(Binary op, int to, int first, const Operand& b)
    {
        const Forms& f = forms(op);
        InstId id = wide ? f.packed : f.scalar;
        f.predicate < 0 ? a.emit(id, reg(to), reg(first), b) : a.emit(id, reg(to), reg(first), b, imm(f.predicate));
    }

    // to = to op b for the older encoding, where the first operand is overwritten
    template <typename Operand>
    void two(Binary op, int to, const Operand& b)
    {
        const Forms& f = forms(op);
        f.predicate < 0 ? a.emit(f.older, xmm(to), b) : a.emit(f.older, xmm(to), b, imm(f.predicate));
    }
};

Emitter::Emitter(Encoding encoding) : data_(std::make_unique<Data>(encoding == Encoding::best && has_avx()))
{
    x86::Assembler& a = data_->a;
    for (const x86::Gp& r : {kMemory, kScratch, kConstantBase, kInstance, kList}) a.push(r);  // with the return address: aligned to 16 bytes
    a.mov(kMemory, x86::rdi);
    a.mov(kScratch, x86::rsi);
    a.mov(kConstantBase, reinterpret_cast<std::uint64_t>(&kConstants));
}

Emitter::~Emitter() = default;

bool Emitter::available()
{
    return CpuInfo::host().features().x86().hasSSE4_1();
}

bool Emitter::wide_available()
{
    return has_avx();
}

void Emitter::begin_loop(std::uint32_t n)
{
    Data& d = *data_;
    d.wide = true;
    d.n = n;
    d.loop = d.a.newLabel();
    d.a.xor_(kInstance.r32(), kInstance.r32());
    d.a.bind(d.loop);
}

// The last four instances may overlap those before: each writes its own results only, so doing some twice changes nothing.
void Emitter::end_loop()
{
    Data& d = *data_;
    Label out = d.a.newLabel();
    d.a.add(kInstance, 4);
    d.a.cmp(kInstance, d.n);
    d.a.jae(out);
    d.a.mov(x86::eax, d.n - 4);
    d.a.cmp(kInstance, x86::rax);
    d.a.cmova(kInstance, x86::rax);
    d.a.jmp(d.loop);
    d.a.bind(out);
    d.a.vzeroupper();
    d.wide = false;
}

void Emitter::load(int to, Spot from)
{
    Data& d = *data_;
    if (!d.wide) {
        d.avx ? d.a.vmovsd(d.xmm(to), d.address(from)) : d.a.movsd(d.xmm(to), d.address(from));
        return;
    }
    if (from.kind == Spot::Kind::same) {
        d.a.vbroadcastsd(d.reg(to), d.address(from));
        return;
    }
    if (from.kind != Spot::Kind::listed) {
        d.a.vmovupd(d.reg(to), d.address(from));
        return;
    }
    // four loads: as fast as the gathering instruction, and faster where that is slowed down by a mitigation
    d.a.mov(kList, reinterpret_cast<std::uint64_t>(from.list));
    auto place = [&](int lane) { return x86::dword_ptr(kList, kInstance, 2, 4 * lane); };
    auto number = [](const x86::Gp& index) { return x86::qword_ptr(kMemory, index, 3); };
    d.a.mov(x86::eax, place(0));
    d.a.mov(x86::ecx, place(1));
    d.a.mov(x86::edx, place(2));
    d.a.mov(x86::esi, place(3));
    d.a.vmovsd(d.xmm(to), number(x86::rax));
    d.a.vmovhpd(d.xmm(to), d.xmm(to), number(x86::rcx));
    d.a.vmovsd(d.xmm(kOwnTemp), number(x86::rdx));
    d.a.vmovhpd(d.xmm(kOwnTemp), d.xmm(kOwnTemp), number(x86::rsi));
    d.a.vinsertf128(x86::ymm(static_cast<std::uint32_t>(to)), x86::ymm(static_cast<std::uint32_t>(to)), d.xmm(kOwnTemp), 1);
}

void Emitter::store(Spot to, int from)
{
    Data& d = *data_;
    if (!d.wide) {
        d.avx ? d.a.vmovsd(d.address(to), d.xmm(from)) : d.a.movsd(d.address(to), d.xmm(from));
    } else if (to.kind != Spot::Kind::listed) {
        d.a.vmovupd(d.address(to), d.reg(from));
    } else {
        d.a.mov(kList, reinterpret_cast<std::uint64_t>(to.list));
        d.a.vextractf128(d.xmm(kOwnTemp), x86::ymm(static_cast<std::uint32_t>(from)), 1);
        for (int lane = 0; lane < 4; ++lane) {
            d.a.mov(x86::eax, x86::dword_ptr(kList, kInstance, 2, 4 * lane));
            x86::Xmm half = d.xmm(lane < 2 ? from : kOwnTemp);
            x86::Mem place = x86::qword_ptr(kMemory, x86::rax, 3);
            lane % 2 == 0 ? d.a.vmovsd(place, half) : d.a.vmovhpd(place, half);
        }
    }
}

void Emitter::move(int to, int from)
{
    Data& d = *data_;
    if (to == from) return;
    d.avx ? d.a.vmovapd(d.reg(to), d.reg(from)) : d.a.movapd(d.xmm(to), d.xmm(from));
}

void Emitter::binary(Binary op, int to, int a, int b)
{
    Data& d = *data_;
    if (d.avx) {
        d.three(op, to, a, d.reg(b));
        return;
    }
    if (to == b && to != a) {
        move(kOwnTemp, b);
        b = kOwnTemp;
    }
    move(to, a);
    d.two(op, to, d.xmm(b));
}

void Emitter::binary(Binary op, int to, int a, Spot b)
{
    Data& d = *data_;
    if (d.avx) {
        d.three(op, to, a, d.address(b));
        return;
    }
    move(to, a);
    d.two(op, to, d.address(b));
}

void Emitter::sqrt(int to, int a)
{
    Data& d = *data_;
    if (d.wide)
        d.a.vsqrtpd(d.reg(to), d.reg(a));
    else if (d.avx)
        d.a.vsqrtsd(d.xmm(to), d.xmm(a), d.xmm(a));
    else
        d.a.sqrtsd(d.xmm(to), d.xmm(a));
}

void Emitter::round(int to, int a, bool up)
{
    Data& d = *data_;
    int mode = up ? 2 : 1;
    if (d.wide)
        d.a.vroundpd(d.reg(to), d.reg(a), mode);
    else if (d.avx)
        d.a.vroundsd(d.xmm(to), d.xmm(a), d.xmm(a), mode);
    else
        d.a.roundsd(d.xmm(to), d.xmm(a), mode);
}

void Emitter::blend(int to, int mask, int yes, int no)
{
    Data& d = *data_;
    if (d.avx) {
        d.a.emit(x86::Inst::kIdVblendvpd, d.reg(to), d.reg(no), d.reg(yes), d.reg(mask));
        return;
    }
    // no ^ ((yes ^ no) & mask)
    move(kOwnTemp, yes);
    d.a.xorpd(d.xmm(kOwnTemp), d.xmm(no));
    d.a.andpd(d.xmm(kOwnTemp), d.xmm(mask));
    d.a.xorpd(d.xmm(kOwnTemp), d.xmm(no));
    move(to, kOwnTemp);
}

void Emitter::call(double (*f)(double))
{
    data_->call_address(reinterpret_cast<const void*>(f));
}

void Emitter::call(double (*f)(double, double))
{
    data_->call_address(reinterpret_cast<const void*>(f));
}

void Emitter::call(double (*f)(double, double, const void*, std::uint32_t), const void* what, std::uint32_t flag)
{
    data_->a.mov(x86::rdi, reinterpret_cast<std::uint64_t>(what));
    data_->a.mov(x86::esi, flag);
    data_->call_address(reinterpret_cast<const void*>(f));
}

void Emitter::call_lanes(LaneFunction f, std::uint32_t to, std::uint32_t a, std::uint32_t b, const void* what, std::uint32_t flag)
{
    x86::Assembler& out = data_->a;
    auto scratch = [](std::uint32_t at) { return x86::ptr(kScratch, static_cast<std::int32_t>(at * sizeof(double))); };
    out.lea(x86::rdi, scratch(to));
    out.lea(x86::rsi, scratch(a));
    out.lea(x86::rdx, scratch(b));
    out.mov(x86::rcx, reinterpret_cast<std::uint64_t>(what));
    out.mov(x86::r8d, flag);
    data_->call_address(reinterpret_cast<const void*>(f));
}

void Emitter::call_listed(ListFunction f, const void* what, const std::uint32_t* list)
{
    data_->a.mov(x86::rdi, reinterpret_cast<std::uint64_t>(what));
    data_->a.mov(x86::rsi, data_->wide ? kScratch : kMemory);
    data_->a.mov(x86::rdx, reinterpret_cast<std::uint64_t>(list));
    data_->call_address(reinterpret_cast<const void*>(f));
}

std::unique_ptr<CodePages> Emitter::finish()
{
    Data& d = *data_;
    for (const x86::Gp& r : {kList, kInstance, kConstantBase, kScratch, kMemory}) d.a.pop(r);
    d.a.ret();
    if (d.refusals.any || d.code.flatten() != kErrorOk || d.code.resolveUnresolvedLinks() != kErrorOk) return nullptr;
    std::size_t size = d.code.codeSize();
    return CodePages::make(size, [&](void* bytes) {
        return d.code.relocateToBase(reinterpret_cast<std::uint64_t>(bytes)) == kErrorOk &&
               d.code.copyFlattenedData(bytes, size, CopySectionFlags::kPadSectionBuffer) == kErrorOk;
    });
}

#else

struct Emitter::Data {};
Emitter::Emitter(Encoding) {}
Emitter::~Emitter() = default;
bool Emitter::available()
{
    return false;
}
bool Emitter::wide_available()
{
    return false;
}
void Emitter::begin_loop(std::uint32_t) {}
void Emitter::end_loop() {}
void Emitter::load(int, Spot) {}
void Emitter::store(Spot, int) {}
void Emitter::move(int, int) {}
void Emitter::binary(Binary, int, int, int) {}
void Emitter::binary(Binary, int, int, Spot) {}
void Emitter::sqrt(int, int) {}
void Emitter::round(int, int, bool) {}
void Emitter::blend(int, int, int, int) {}
void Emitter::call(double (*)(double)) {}
void Emitter::call(double (*)(double, double)) {}
void Emitter::call(double (*)(double, double, const void*, std::uint32_t), const void*, std::uint32_t) {}
void Emitter::call_lanes(LaneFunction, std::uint32_t, std::uint32_t, std::uint32_t, const void*, std::uint32_t) {}
void Emitter::call_listed(ListFunction, const void*, const std::uint32_t*) {}
std::unique_ptr<CodePages> Emitter::finish()
{
    return nullptr;
}

#endif

}  // namespace netloop
