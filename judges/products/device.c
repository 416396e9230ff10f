/* Installs a driver package for a device that no bus has found: device.exe INF HARDWARE-ID */
#include <windows.h>
#include <setupapi.h>
#include <newdev.h>
#include <stdio.h>
#include <string.h>
static int failed(const char *what) {
  printf("%s: %lu\n", what, GetLastError());
  return 1;
}
int main(int count, char **words) {
  SP_DEVINFO_DATA device = {sizeof(device)};
  char name[64], ids[128] = {0};
  BOOL restart = FALSE;
  HDEVINFO set;
  GUID kind;
  if (count < 3) return 2;
  if (!SetupDiGetINFClassA(words[1], &kind, name, sizeof(name), NULL)) return failed("class");
  set = SetupDiCreateDeviceInfoList(&kind, NULL);
  if (!SetupDiCreateDeviceInfoA(set, name, &kind, NULL, NULL, DICD_GENERATE_ID, &device)) return failed("device");
  strncpy(ids, words[2], sizeof(ids) - 2);
  if (!SetupDiSetDeviceRegistryPropertyA(set, &device, SPDRP_HARDWAREID, (BYTE *)ids, strlen(ids) + 2))
    return failed("identifier");
  if (!SetupDiCallClassInstaller(DIF_REGISTERDEVICE, set, &device)) return failed("register");
  if (!UpdateDriverForPlugAndPlayDevicesA(NULL, words[2], words[1], INSTALLFLAG_FORCE, &restart))
    return failed("install");
  SetupDiDestroyDeviceInfoList(set);
  return 0;
}
