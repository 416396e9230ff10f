/* A program with a window, which stays until that is closed. */
#include <windows.h>
static LRESULT CALLBACK answer(HWND window, UINT message, WPARAM one, LPARAM other) {
  if (message == WM_DESTROY) PostQuitMessage(0);
  return DefWindowProcW(window, message, one, other);
}
int WINAPI WinMain(HINSTANCE own, HINSTANCE none, LPSTR words, int show) {
  WNDCLASSW kind = {0};
  MSG message;
  kind.lpfnWndProc = answer;
  kind.hInstance = own;
  kind.lpszClassName = L"ScaleDesk";
  RegisterClassW(&kind);
  CreateWindowW(kind.lpszClassName, L"Quernlight Scale Desk", WS_OVERLAPPEDWINDOW | WS_VISIBLE, 0, 0, 400, 300, NULL,
                NULL, own, NULL);
  while (GetMessageW(&message, NULL, 0, 0) > 0) DispatchMessageW(&message);
  return 0;
}
