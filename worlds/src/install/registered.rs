//! What the package installer registers, in its rearranged spelling.

use stubble_core::model::RegValue;

use super::Installing;
use crate::names::{guid, packed};

const DATA: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer\\UserData\\S-1-5-18";
const CLASSES: &str = "HKLM\\SOFTWARE\\Classes\\Installer";
const INSTALLER: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer";

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("package registration");
    let (code, upgrade) = (packed(&product.code), packed(&product.upgrade));
    let cached = format!("C:\\Windows\\Installer\\{}.msi", &code[..7].to_lowercase());
    let kept = one.mark("cached package");
    one.machine.package(&cached, &product.name, &product.publisher.listed, &product.code, kept);
    let own = format!("{DATA}\\Products\\{code}");
    let properties = [
        ("DisplayName", product.name.as_str()),
        ("DisplayVersion", &product.version),
        ("Publisher", &product.publisher.listed),
        ("InstallLocation", &format!("{}\\", product.folder)),
        ("LocalPackage", &cached),
    ];
    one.machine.key(&own, mark.clone());
    one.machine.own_key(&format!("{own}\\InstallProperties"), &properties, mark.clone());
    one.machine.own_key(&format!("{own}\\Features"), &[("Main", "")], mark.clone());
    one.machine.own_key(&format!("{CLASSES}\\Products\\{code}"), &[("ProductName", &product.name)], mark.clone());
    one.machine.key(&format!("{CLASSES}\\Products\\{code}\\SourceList"), mark.clone());
    one.machine.own_key(&format!("{CLASSES}\\Features\\{code}"), &[("Main", "")], mark.clone());
    for root in [CLASSES, INSTALLER] {
        one.machine.own_key(&format!("{root}\\UpgradeCodes\\{upgrade}"), &[(&code, "")], mark.clone());
    }
    for part in [product.program(), format!("{}\\core.dll", product.folder)] {
        let component = packed(&guid(one.rng));
        one.machine.own_key(&format!("{DATA}\\Components\\{component}"), &[(&code, &part)], mark.clone());
    }
    if one.rng.bool() {
        let folder = format!("C:\\Windows\\Installer\\{}", product.code);
        one.machine.file(&format!("{folder}\\icon.ico"), one.mark("cached icons"));
        one.machine.folder(&folder, one.mark("cached icons"));
    }
    if one.once_in(4) {
        let patch = packed(&guid(one.rng));
        let mark = one.mark("patch");
        let kept = format!("C:\\Windows\\Installer\\{}.msp", &patch[..7].to_lowercase());
        one.machine.patch(&kept, &product.code, mark.clone());
        one.machine.own_key(&format!("{DATA}\\Patches\\{patch}"), &[("LocalPackage", &kept)], mark.clone());
        one.machine.own_key(&format!("{own}\\Patches\\{patch}"), &[("DisplayName", "Update 1")], mark.clone());
        one.machine.own_key(
            &format!("{CLASSES}\\Patches\\{patch}\\SourceList"),
            &[("PackageName", "update.msp")],
            mark.clone(),
        );
        one.machine.key(&format!("{CLASSES}\\Patches\\{patch}"), mark);
    }
    // Every folder that was made is on a list of the installer.
    let folders = format!("{INSTALLER}\\Folders");
    one.machine.value(&folders, RegValue::text(&format!("{}\\", product.folder), ""), one.mark("installer folders"));
    if one.once_in(3) {
        let provider = format!("HKLM\\SOFTWARE\\Classes\\Installer\\Dependencies\\{}", product.together());
        one.machine.own_key(
            &provider,
            &[("", &product.code), ("DisplayName", &product.name)],
            one.mark("provider key"),
        );
    }
}
