/* A program that does nothing but stay, if it is told to. */
#include <windows.h>
int main(int count, char **words) {
  if (count > 1) Sleep(INFINITE);
  return 0;
}
