//! The installer's own registrations of a product.

use stubble_core::model::Guid;
use stubble_core::model::registry::RegValue;
use stubble_core::packages::Package;
use stubble_core::packages::layout::Layout;
use stubble_core::packages::registered::{CLASSES, INSTALLER, SYSTEM_SID};

use super::actions::{service_programs, write};
use super::{Done, Session, layout};
use crate::bench::Bench;
use crate::bench::running::ServiceRow;
use crate::{Alter, MachineError};

/// Where a package is kept for repair and removal: a name made of its package code.
pub(super) fn cached_package(package: &Package) -> String {
    let code = package.package_code.unwrap_or(package.product_code).packed().to_lowercase();
    format!("C:\\Windows\\Installer\\{}.msi", &code[..6])
}

impl Session<'_> {
    pub(super) fn process_components(&mut self) -> Done {
        let layout = layout(&self.package, &self.survey);
        let product = self.package.product_code.packed();
        for component in &self.package.components {
            let (Some(code), Some(key_path)) = (component.code, layout.key_path(component)) else { continue };
            let key = format!("{INSTALLER}\\UserData\\{SYSTEM_SID}\\Components\\{}", code.packed());
            self.edit.set(&key, &RegValue::text(&product, &key_path))?;
        }
        Ok(Ok(()))
    }

    pub(super) fn register_product(&mut self) -> Done {
        let package = &self.package;
        let layout = layout(&self.package, &self.survey);
        let cached = cached_package(package);
        write(self.bench.disk(), &cached, self.bytes, self.bench.state()?.now)?;
        let size: u64 = package.files.iter().map(|file| file.size).sum();
        let folder = layout.install_folder().map(|folder| format!("{folder}\\")).unwrap_or_default();
        let uninstall = format!("MsiExec.exe /X{}", package.product_code);
        let common = [
            RegValue::text("DisplayName", &package.name),
            RegValue::text("DisplayVersion", &package.version.to_string()),
            RegValue::text("Publisher", &package.manufacturer),
            RegValue::text("InstallLocation", &folder),
            RegValue::expand("UninstallString", &uninstall),
            RegValue::dword("Version", package.version.packed()),
            RegValue::dword("WindowsInstaller", 1),
            RegValue::dword("EstimatedSize", (size / 1024) as u32),
        ];
        let data = format!("{INSTALLER}\\UserData\\{SYSTEM_SID}\\Products\\{}", package.product_code.packed());
        let entry =
            format!("{}\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\{}", layout.software(), package.product_code);
        for value in &common {
            self.edit.set(&format!("{data}\\InstallProperties"), value)?;
            self.edit.set(&entry, value)?;
        }
        self.edit.set(&format!("{data}\\InstallProperties"), &RegValue::text("LocalPackage", &cached))?;
        for part in ["Usage", "Patches"] {
            self.edit.make_key(&format!("{data}\\{part}"))?;
        }
        if let Some(code) = package.upgrade_code {
            let key = format!("{INSTALLER}\\UpgradeCodes\\{}", code.packed());
            self.edit.set(&key, &RegValue::text(&package.product_code.packed(), ""))?;
        }
        Ok(Ok(()))
    }

    pub(super) fn publish_features(&mut self) -> Done {
        let product = self.package.product_code.packed();
        for (feature, components) in &self.package.features {
            self.edit.set(&format!("{CLASSES}\\Features\\{product}"), &RegValue::text(feature, ""))?;
            let codes: String =
                components.iter().filter_map(|id| self.package.component(id)?.code).map(Guid::packed).collect();
            let data = format!("{INSTALLER}\\UserData\\{SYSTEM_SID}\\Products\\{product}\\Features");
            self.edit.set(&data, &RegValue::text(feature, &codes))?;
        }
        Ok(Ok(()))
    }

    pub(super) fn publish_product(&mut self) -> Done {
        let package = &self.package;
        let key = format!("{CLASSES}\\Products\\{}", package.product_code.packed());
        let code = package.package_code.map(Guid::packed).unwrap_or_default();
        for value in [
            RegValue::text("ProductName", &package.name),
            RegValue::text("PackageCode", &code),
            RegValue::dword("Language", 1033),
            RegValue::dword("Version", package.version.packed()),
            RegValue::dword("Assignment", 1),
            RegValue::dword("InstanceType", 0),
        ] {
            self.edit.set(&key, &value)?;
        }
        let (folder, name) = self.payload.rsplit_once('\\').unwrap_or(("", self.payload));
        let list = format!("{key}\\SourceList");
        self.edit.set(&list, &RegValue::text("PackageName", name))?;
        self.edit.set(&list, &RegValue::expand("LastUsedSource", &format!("n;1;{folder}\\")))?;
        self.edit.set(&format!("{list}\\Net"), &RegValue::expand("1", &format!("{folder}\\")))?;
        if let Some(code) = package.upgrade_code {
            let key = format!("{CLASSES}\\UpgradeCodes\\{}", code.packed());
            self.edit.set(&key, &RegValue::text(&package.product_code.packed(), ""))?;
        }
        Ok(Ok(()))
    }
}

/// Starts the services that the package asks to start, once they are registered.
pub(super) fn start_services(bench: &Bench, package: &Package, layout: &Layout<'_>) -> Result<(), MachineError> {
    let mut state = bench.state()?;
    for (name, program) in service_programs(package, layout) {
        state.services.retain(|row| !row.name.eq_ignore_ascii_case(&name));
        state.services.push(ServiceRow { name, running: false, image: Some(program), hangs: false });
    }
    bench.set_state(&state)?;
    package.starts.iter().try_for_each(|name| bench.start_service(name))
}
