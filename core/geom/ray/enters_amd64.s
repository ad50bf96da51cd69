#include "textflag.h"

// func enters(n *node, q *asked) uint32
//
// For each of four boxes: in = max over axes of min(low, high), at least 0, where low and high are (corner-from + side*step)*inv;
// out = min over axes of max(low, high), at most the limit; a bit is set where in <= out and there is a child. Nothing here is
// not-a-number: inv is finite.
TEXT ·enters(SB), NOSPLIT, $0-20
	MOVQ      n+0(FP), AX
	MOVQ      q+8(FP), BX
	MOVQ      96(BX), R8
	MOVQ      104(BX), R9
	XORPS     X7, X7

	// fetch the children
	MOVLQSX   48(AX), DX
	MOVQ      DX, R10
	SHLQ      $6, R10 // a node has 64 bytes
	ADDQ      R8, R10
	MOVQ      DX, R11
	NOTQ      R11
	SARQ      $3, R11
	LEAQ      (R11)(R11*4), R11
	LEAQ      (R9)(R11*8), R11 // a triangle has 40
	TESTQ     DX, DX
	CMOVQLT   R11, R10
	PREFETCHT0 (R10)
	MOVLQSX   52(AX), DX
	MOVQ      DX, R10
	SHLQ      $6, R10 // a node has 64 bytes
	ADDQ      R8, R10
	MOVQ      DX, R11
	NOTQ      R11
	SARQ      $3, R11
	LEAQ      (R11)(R11*4), R11
	LEAQ      (R9)(R11*8), R11 // a triangle has 40
	TESTQ     DX, DX
	CMOVQLT   R11, R10
	PREFETCHT0 (R10)
	MOVLQSX   56(AX), DX
	MOVQ      DX, R10
	SHLQ      $6, R10 // a node has 64 bytes
	ADDQ      R8, R10
	MOVQ      DX, R11
	NOTQ      R11
	SARQ      $3, R11
	LEAQ      (R11)(R11*4), R11
	LEAQ      (R9)(R11*8), R11 // a triangle has 40
	TESTQ     DX, DX
	CMOVQLT   R11, R10
	PREFETCHT0 (R10)
	MOVLQSX   60(AX), DX
	MOVQ      DX, R10
	SHLQ      $6, R10 // a node has 64 bytes
	ADDQ      R8, R10
	MOVQ      DX, R11
	NOTQ      R11
	SARQ      $3, R11
	LEAQ      (R11)(R11*4), R11
	LEAQ      (R9)(R11*8), R11 // a triangle has 40
	TESTQ     DX, DX
	CMOVQLT   R11, R10
	PREFETCHT0 (R10)

	// x
	MOVSS     0(AX), X0 // corner
	SUBSS     80(BX), X0
	SHUFPS    $0, X0, X0
	MOVSS     12(AX), X1 // step
	SHUFPS    $0, X1, X1
	MOVUPS    0(BX), X8 // inv
	MOVSS     24(AX), X2 // low, four bytes
	MOVSS     36(AX), X3 // high
	PUNPCKLBW X7, X2
	PUNPCKLBW X7, X3
	PUNPCKLWL X7, X2
	PUNPCKLWL X7, X3
	CVTPL2PS  X2, X2
	CVTPL2PS  X3, X3
	MULPS     X1, X2
	MULPS     X1, X3
	ADDPS     X0, X2
	ADDPS     X0, X3
	MULPS     X8, X2
	MULPS     X8, X3
	MOVAPS    X2, X4
	MINPS     X3, X4 // in
	MAXPS     X2, X3
	MOVAPS    X3, X5 // out

	// y
	MOVSS     4(AX), X0 // corner
	SUBSS     84(BX), X0
	SHUFPS    $0, X0, X0
	MOVSS     16(AX), X1 // step
	SHUFPS    $0, X1, X1
	MOVUPS    16(BX), X8 // inv
	MOVSS     28(AX), X2 // low, four bytes
	MOVSS     40(AX), X3 // high
	PUNPCKLBW X7, X2
	PUNPCKLBW X7, X3
	PUNPCKLWL X7, X2
	PUNPCKLWL X7, X3
	CVTPL2PS  X2, X2
	CVTPL2PS  X3, X3
	MULPS     X1, X2
	MULPS     X1, X3
	ADDPS     X0, X2
	ADDPS     X0, X3
	MULPS     X8, X2
	MULPS     X8, X3
	MOVAPS    X2, X6
	MINPS     X3, X6
	MAXPS     X2, X3
	MAXPS     X6, X4
	MINPS     X3, X5

	// z
	MOVSS     8(AX), X0 // corner
	SUBSS     88(BX), X0
	SHUFPS    $0, X0, X0
	MOVSS     20(AX), X1 // step
	SHUFPS    $0, X1, X1
	MOVUPS    32(BX), X8 // inv
	MOVSS     32(AX), X2 // low, four bytes
	MOVSS     44(AX), X3 // high
	PUNPCKLBW X7, X2
	PUNPCKLBW X7, X3
	PUNPCKLWL X7, X2
	PUNPCKLWL X7, X3
	CVTPL2PS  X2, X2
	CVTPL2PS  X3, X3
	MULPS     X1, X2
	MULPS     X1, X3
	ADDPS     X0, X2
	ADDPS     X0, X3
	MULPS     X8, X2
	MULPS     X8, X3
	MOVAPS    X2, X6
	MINPS     X3, X6
	MAXPS     X2, X3
	MAXPS     X6, X4
	MINPS     X3, X5

	MAXPS     X7, X4
	MOVUPS    48(BX), X0 // limit
	MINPS     X0, X5
	MOVUPS    X4, 64(BX)
	CMPPS     X5, X4, $2 // in <= out
	MOVUPS    48(AX), X1 // children
	PCMPEQL   X7, X1
	ANDNPS    X4, X1
	MOVMSKPS  X1, CX
	MOVL      CX, ret+16(FP)
	RET
