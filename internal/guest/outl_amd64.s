#include "textflag.h"

// func outl(port uint16, v uint32)
TEXT ·outl(SB),NOSPLIT,$0-8
	MOVW port+0(FP), DX
	MOVL v+4(FP), AX
	OUTL
	RET
