/* The library from which programs take random numbers, for systems that do not have it yet. */
#include <windows.h>
BOOLEAN WINAPI SystemFunction036(PVOID room, ULONG size);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE room, SIZE_T size) {
  while (size > 0) {
    ULONG part = size < 0x10000000 ? (ULONG)size : 0x10000000;
    if (!SystemFunction036(room, part)) return FALSE;
    room += part;
    size -= part;
  }
  return TRUE;
}
