#include "textflag.h"

// FETCH brings a child to the cache: a node of 64 bytes at R8, or a leaf's first triangle of 40 bytes at R9.
#define FETCH(child) \
	MOVLQSX    child(AX), DX         \
	MOVQ       DX, R10               \
	SHLQ       $6, R10               \
	ADDQ       R8, R10               \
	MOVQ       DX, R11               \
	NOTQ       R11                   \
	SARQ       $3, R11               \
	LEAQ       (R11)(R11*4), R11     \
	LEAQ       (R9)(R11*8), R11      \
	TESTQ      DX, DX                \
	CMOVQLT    R11, R10              \
	PREFETCHT0 (R10)

// AXIS gives, for four boxes and one axis, when the ray is at their low sides, X2, and at their high sides, X3:
// (corner-from + side*step)*inv.
#define AXIS(corner, from, step, inv, lowSides, highSides) \
	MOVSS     corner(AX), X0    \
	SUBSS     from(BX), X0      \
	SHUFPS    $0, X0, X0        \
	MOVSS     step(AX), X1      \
	SHUFPS    $0, X1, X1        \
	MOVUPS    inv(BX), X8       \
	MOVSS     lowSides(AX), X2  \
	MOVSS     highSides(AX), X3 \
	PUNPCKLBW X7, X2            \
	PUNPCKLBW X7, X3            \
	PUNPCKLWL X7, X2            \
	PUNPCKLWL X7, X3            \
	CVTPL2PS  X2, X2            \
	CVTPL2PS  X3, X3            \
	MULPS     X1, X2            \
	MULPS     X1, X3            \
	ADDPS     X0, X2            \
	ADDPS     X0, X3            \
	MULPS     X8, X2            \
	MULPS     X8, X3

// NARROW takes an axis into account: in, X4, is the largest of the smaller ones, out, X5, the smallest of the larger ones.
#define NARROW \
	MOVAPS X2, X6 \
	MINPS  X3, X6 \
	MAXPS  X2, X3 \
	MAXPS  X6, X4 \
	MINPS  X3, X5

// func enters(n *node, q *asked) uint32
//
// For each of four boxes: in = max over axes of min(low, high), at least 0; out = min over axes of max(low, high), at most the
// limit; a bit is set where in <= out and there is a child. Nothing here is not-a-number: inv is finite.
TEXT ·enters(SB), NOSPLIT, $0-20
	MOVQ  n+0(FP), AX
	MOVQ  q+8(FP), BX
	MOVQ  96(BX), R8
	MOVQ  104(BX), R9
	XORPS X7, X7
	FETCH(48)
	FETCH(52)
	FETCH(56)
	FETCH(60)
	XORPS  X4, X4     // in
	MOVUPS 48(BX), X5 // out
	AXIS(0, 80, 12, 0, 24, 36)
	NARROW
	AXIS(4, 84, 16, 16, 28, 40)
	NARROW
	AXIS(8, 88, 20, 32, 32, 44)
	NARROW
	MOVUPS   X4, 64(BX)
	CMPPS    X5, X4, $2 // in <= out
	MOVUPS   48(AX), X1 // children
	PCMPEQL  X7, X1
	ANDNPS   X4, X1
	MOVMSKPS X1, CX
	MOVL     CX, ret+16(FP)
	RET
