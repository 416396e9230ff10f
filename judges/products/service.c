/* A service that runs until it is told to stop. */
#include <windows.h>
static SERVICE_STATUS_HANDLE handle;
static HANDLE stop;
static void tell(DWORD state) {
  SERVICE_STATUS status = {SERVICE_WIN32_OWN_PROCESS, state, state == SERVICE_RUNNING ? SERVICE_ACCEPT_STOP : 0};
  SetServiceStatus(handle, &status);
}
static DWORD WINAPI control(DWORD code, DWORD type, void *data, void *context) {
  if (code == SERVICE_CONTROL_STOP) SetEvent(stop);
  return NO_ERROR;
}
static void WINAPI run(DWORD count, LPWSTR *words) {
  stop = CreateEventW(NULL, TRUE, FALSE, NULL);
  handle = RegisterServiceCtrlHandlerExW(L"FennelgateScaleBridge", control, NULL);
  tell(SERVICE_RUNNING);
  WaitForSingleObject(stop, INFINITE);
  tell(SERVICE_STOPPED);
}
int main(void) {
  SERVICE_TABLE_ENTRYW table[] = {{L"FennelgateScaleBridge", run}, {NULL, NULL}};
  return !StartServiceCtrlDispatcherW(table);
}
