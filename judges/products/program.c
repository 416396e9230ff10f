/* A program that does nothing but stay, if it is told anything:
     stay FILE              writes into FILE what its console says to it, and ends
     start PROGRAM FILE     has PROGRAM stay in a console of its own
     beside PROGRAM FILE    has it stay in this console, and waits for it */
#include <stdio.h>
#include <string.h>
#include <windows.h>
static const char *told;
static BOOL WINAPI hear(DWORD event) {
  FILE *file = fopen(told, "a");
  if (!file) return FALSE;
  fprintf(file, "event %lu\n", event);
  fclose(file);
  ExitProcess(0);
}
static int start(const char *program, const char *file, BOOL beside) {
  char line[1024];
  STARTUPINFOA how = {sizeof how};
  PROCESS_INFORMATION made;
  snprintf(line, sizeof line, "\"%s\" stay %s", program, file);
  if (!CreateProcessA(NULL, line, NULL, NULL, FALSE, CREATE_NEW_PROCESS_GROUP | (beside ? 0 : CREATE_NEW_CONSOLE), NULL,
                      NULL, &how, &made))
    return 1;
  return beside ? (int)WaitForSingleObject(made.hProcess, INFINITE) : 0;
}
int main(int count, char **words) {
  BOOL beside = count > 3 && !strcmp(words[1], "beside");
  if (beside || (count > 3 && !strcmp(words[1], "start"))) return start(words[2], words[3], beside);
  if (count > 2 && !strcmp(words[1], "stay")) {
    told = words[2];
    SetConsoleCtrlHandler(NULL, FALSE);
    SetConsoleCtrlHandler(hear, TRUE);
  }
  if (count > 1) Sleep(INFINITE);
  return 0;
}
