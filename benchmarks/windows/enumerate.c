/* A bare enumeration: every key, value and file by the common calls, nothing kept. Prints what it counted and the
   milliseconds that it took. */
#include <windows.h>
#include <stdio.h>
#include <wchar.h>
static unsigned long keys, values, files;
static unsigned long long bytes;
static void walk_key(HKEY key) {
  WCHAR name[16384];
  BYTE *data = malloc(1 << 16);
  DWORD room = 1 << 16, at, len, kind, size, below = 0, held = 0;
  FILETIME time;
  keys++;
  RegQueryInfoKeyW(key, NULL, NULL, NULL, &below, NULL, NULL, &held, NULL, NULL, NULL, &time);
  for (at = 0; at < held; at++) {
    len = 16383, size = room;
    LONG told = RegEnumValueW(key, at, name, &len, NULL, &kind, data, &size);
    if (told == ERROR_MORE_DATA) {
      data = realloc(data, room = size);
      len = 16383;
      told = RegEnumValueW(key, at, name, &len, NULL, &kind, data, &size);
    }
    if (told != 0) break;
    values++, bytes += size;
  }
  for (at = 0; at < below; at++) {
    HKEY next;
    len = 256;
    if (RegEnumKeyExW(key, at, name, &len, NULL, NULL, NULL, &time) != 0) break;
    if (RegOpenKeyExW(key, name, REG_OPTION_OPEN_LINK, KEY_READ | KEY_WOW64_64KEY, &next) == 0) {
      walk_key(next);
      RegCloseKey(next);
    }
  }
  free(data);
}
static void walk_folder(WCHAR *path) {
  WIN32_FIND_DATAW found;
  size_t len = wcslen(path);
  wcscpy(path + len, L"\\*");
  HANDLE search = FindFirstFileExW(path, FindExInfoBasic, &found, FindExSearchNameMatch, NULL, FIND_FIRST_EX_LARGE_FETCH);
  if (search != INVALID_HANDLE_VALUE) {
    do {
      if (!wcscmp(found.cFileName, L".") || !wcscmp(found.cFileName, L"..")) continue;
      files++, bytes += found.nFileSizeLow;
      if ((found.dwFileAttributes & FILE_ATTRIBUTE_DIRECTORY) && !(found.dwFileAttributes & FILE_ATTRIBUTE_REPARSE_POINT)) {
        path[len] = L'\\';
        wcscpy(path + len + 1, found.cFileName);
        walk_folder(path);
      }
    } while (FindNextFileW(search, &found));
    FindClose(search);
  }
  path[len] = 0;
}
int main(void) {
  static WCHAR path[32768] = L"\\\\?\\C:";
  static const WCHAR *tops[] = {L"SOFTWARE", L"SYSTEM"};
  ULONGLONG began = GetTickCount64();
  for (int at = 0; at < 2; at++) {
    HKEY key;
    if (RegOpenKeyExW(HKEY_LOCAL_MACHINE, tops[at], 0, KEY_READ | KEY_WOW64_64KEY, &key) == 0) walk_key(key), RegCloseKey(key);
  }
  walk_key(HKEY_CURRENT_USER);
  ULONGLONG registry = GetTickCount64();
  walk_folder(path);
  ULONGLONG all = GetTickCount64();
  printf("keys %lu values %lu files %lu bytes %llu registry-ms %llu files-ms %llu\n", keys, values, files, bytes,
         registry - began, all - registry);
  return 0;
}
