/* The one library that Go's runtime asks Windows for and Wine 8 does not have: bytes of chance. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE to, SIZE_T n) { return SystemFunction036(to, (ULONG)n); }
