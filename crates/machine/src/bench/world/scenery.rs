//! Windows' own files, services and classes, in small: what every search has to pass by.

use stubble_core::model::registry::RegValue;

/// Public names of parts of Windows.
const LIBRARIES: &str = "advapi32 apphelp authui bcrypt cabinet certcli clbcatq combase comctl32 comdlg32 crypt32 \
    cryptbase cryptsp d3d11 dbghelp devobj dhcpcsvc dnsapi dpapi dsound dwmapi dxgi esent fltlib fwpuclnt gdi32 \
    gdiplus hid imagehlp imm32 iphlpapi kernel32 kernelbase ksuser localspl mpr msacm32 mscms msctf msi mswsock \
    msvcrt ncrypt netapi32 netutils newdev normaliz nsi ntdll ntmarta odbc32 ole32 oleacc oleaut32 pdh powrprof \
    profapi propsys psapi rasapi32 rpcrt4 rsaenh samlib schannel sechost setupapi shcore shell32 shlwapi srvcli \
    sspicli tapi32 ucrtbase urlmon user32 userenv usp10 uxtheme version vssapi wer wevtapi winhttp wininet winmm \
    winspool winsta wintrust wldap32 wlanapi ws2_32 wtsapi32 xmllite";
const PROGRAMS: &str = "calc cmd conhost control csrss dllhost dwm eventvwr explorer lsass msiexec mspaint notepad \
    powercfg reg regsvr32 rundll32 services smss spoolsv svchost taskhostw taskmgr wininit winlogon wscript";
const DRIVERS: &str = "acpi afd beep cdrom disk fltmgr hidclass hidusb http kbdclass ksecdd mouclass mup ndis ntfs \
    partmgr pci rdbss serial storport tcpip usbccgp usbhub usbser usbstor vga volmgr volsnap wdf01000 winusb";
const SERVICES: &str = "AppIDSvc Appinfo AudioSrv BFE BITS BrokerInfrastructure CertPropSvc CryptSvc DcomLaunch \
    Dhcp Dnscache DPS EventLog EventSystem FontCache gpsvc hidserv IKEEXT iphlpsvc KeyIso LanmanServer \
    LanmanWorkstation lmhosts LSM MMCSS MpsSvc msiserver Netlogon netprofm NlaSvc nsi PcaSvc PlugPlay PolicyAgent \
    Power ProfSvc RasMan RemoteRegistry RpcEptMapper RpcSs SamSs Schedule SENS SessionEnv ShellHWDetection Spooler \
    SSDPSRV StiSvc SysMain TermService Themes TrkWks TrustedInstaller UmRdpService upnphost UserManager VaultSvc \
    VSS W32Time WbioSrvc Wcmsvc WdiServiceHost WinHttpAutoProxySvc Winmgmt WlanSvc wscsvc WSearch wuauserv";
const EXTENSIONS: &str = "asc avi bat bmp cab cat cer chm cmd com cpl css csv cur dll doc drv emf eml exe fon gif hlp \
    htm html ico inf ini iso jpe jpeg jpg js jse lnk log m3u mht mid mov mp3 mp4 mpeg msc msi msp nfo ocx odc odp ods \
    odt otf pdf pfx pif png pnf ppt ps1 rat reg rle rtf scf scr sct search shb sys tar tif tiff ttc ttf txt url vbe \
    vbs vxd wav wax wma wmf wmv wsc wsf wsh xaml xls xml xps xsl zip";

fn words(text: &str) -> impl Iterator<Item = &str> {
    text.split_whitespace()
}

/// Paths with sizes in bytes; far smaller than the real ones.
pub(super) fn files() -> Vec<(String, u64)> {
    let system = "C:\\Windows\\System32";
    let mut files = Vec::new();
    for name in words(LIBRARIES) {
        files.push((format!("{system}\\{name}.dll"), 220));
        files.push((format!("C:\\Windows\\SysWOW64\\{name}.dll"), 180));
        files.push((format!("{system}\\en-US\\{name}.dll.mui"), 40));
        let store = format!("amd64_microsoft-windows-{name}_31bf3856ad364e35_10.0.19041.1_none_{}", short_hash(name));
        files.push((format!("C:\\Windows\\WinSxS\\{store}\\{name}.dll"), 220));
    }
    files.extend(words(PROGRAMS).map(|name| (format!("{system}\\{name}.exe"), 300)));
    files.extend(words(DRIVERS).map(|name| (format!("{system}\\drivers\\{name}.sys"), 150)));
    files.extend(words(DRIVERS).map(|name| (format!("C:\\Windows\\INF\\{name}.inf"), 90)));
    files
}

/// Keys with values: services, file types, classes.
pub(super) fn values() -> Vec<(String, RegValue)> {
    let mut values = Vec::new();
    for name in words(SERVICES) {
        let key = format!("HKLM\\SYSTEM\\ControlSet001\\Services\\{name}");
        let host = match name {
            "msiserver" => "%SystemRoot%\\system32\\msiexec.exe /V",
            _ => "%SystemRoot%\\system32\\svchost.exe -k netsvcs -p",
        };
        let library = format!("%SystemRoot%\\system32\\{}.dll", name.to_lowercase());
        values.push((key.clone(), RegValue::dword("Type", 32)));
        values.push((key.clone(), RegValue::dword("Start", 3)));
        values.push((key.clone(), RegValue::dword("ErrorControl", 1)));
        values.push((key.clone(), RegValue::expand("ImagePath", host)));
        values.push((key.clone(), RegValue::text("ObjectName", "LocalSystem")));
        values.push((format!("{key}\\Parameters"), RegValue::expand("ServiceDll", &library)));
    }
    for extension in words(EXTENSIONS) {
        let class = format!("{extension}file");
        let root = "HKLM\\SOFTWARE\\Classes";
        values.push((format!("{root}\\.{extension}"), RegValue::text("", &class)));
        values.push((format!("{root}\\.{extension}"), RegValue::text("PerceivedType", "document")));
        values.push((format!("{root}\\{class}"), RegValue::text("", &format!("{extension} file"))));
        values.push((
            format!("{root}\\{class}\\DefaultIcon"),
            RegValue::expand("", "%SystemRoot%\\System32\\shell32.dll,1"),
        ));
        let open = "%SystemRoot%\\system32\\notepad.exe \"%1\"";
        values.push((format!("{root}\\{class}\\shell\\open\\command"), RegValue::expand("", open)));
    }
    for name in words(LIBRARIES) {
        let hash = short_hash(name);
        let class = format!("{{{}-0000-4000-8000-0000{}}}", &hash[..8], &hash[..8]);
        for (root, folder) in [("Classes", "System32"), ("WOW6432Node\\Classes", "SysWOW64")] {
            let key = format!("HKLM\\SOFTWARE\\{root}\\CLSID\\{}", class.to_uppercase());
            let library = format!("%SystemRoot%\\{folder}\\{name}.dll");
            values.push((key.clone(), RegValue::text("", &format!("Windows class of {name}"))));
            values.push((format!("{key}\\InprocServer32"), RegValue::expand("", &library)));
            values.push((format!("{key}\\InprocServer32"), RegValue::text("ThreadingModel", "Both")));
        }
    }
    values
}

fn short_hash(name: &str) -> String {
    blake3::hash(name.as_bytes()).to_hex()[..16].to_owned()
}
