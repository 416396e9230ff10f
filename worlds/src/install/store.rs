//! A companion of the store's kind.

use super::Installing;
use crate::machine::Class;

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("store package");
    let plain = |text: &str| text.chars().filter(char::is_ascii_alphanumeric).collect::<String>();
    let (publisher, name) = (plain(&product.publisher.folder), plain(&product.name));
    if name.len() < 5 {
        return;
    }
    let end: String = (0..13).map(|_| char::from(b"0123456789abcdefghjkmnpqrstvwxyz"[one.rng.usize(..32)])).collect();
    let full = format!("{publisher}.{name}_{}.0_x64__{end}", product.version);
    let user = one.machine.users[product.user].clone();
    let folder = format!("C:\\Program Files\\WindowsApps\\{full}");
    one.machine.folder(&folder, mark.clone());
    one.machine.program(&format!("{folder}\\viewer.exe"), &product.publisher.told, &product.name, mark.clone());
    let repository = "Local Settings\\Software\\Microsoft\\Windows\\CurrentVersion\\AppModel\\Repository\\Packages";
    let key = format!("{}_Classes\\{repository}\\{full}", user.key("").trim_end_matches('\\'));
    one.machine.own_key(
        &key,
        &[("DisplayName", &format!("{} Companion", product.name)), ("PackageRootFolder", &folder)],
        mark.clone(),
    );
    let all = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Appx\\AppxAllUserStore\\Applications";
    one.machine.key(&format!("{all}\\{full}"), mark);
    let data = user.folder(&format!("AppData\\Local\\Packages\\{publisher}.{name}_{end}"));
    one.machine.file(&format!("{data}\\LocalState\\cache\\view.bin"), one.mark("store data"));
    one.machine.file(&format!("{data}\\Settings\\settings.dat"), one.mark("user settings").as_class(Class::Settings));
}
