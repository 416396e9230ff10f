//! Settings, data and caches, of the machine and of its users.

use super::Installing;
use crate::machine::{Class, Whose};

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let below = match one.rng.u8(..4) {
        0 => product.plain(),
        1 if product.publisher.former.is_some() => {
            format!("{}\\{}", product.publisher.former.clone().unwrap_or_default(), product.plain())
        }
        _ => product.below(),
    };
    let settings = one.mark("machine key");
    if one.rng.u8(..4) > 0 {
        let key = format!("{}\\{below}", product.software());
        one.machine.own_key(&key, &[("InstallDir", &product.folder), ("Version", &product.version)], settings.clone());
        one.machine.own_key(&format!("{key}\\Options"), &[("Language", "en")], settings);
    }
    if one.rng.bool() {
        let folder = format!("C:\\ProgramData\\{below}");
        let mark = one.mark("machine data");
        one.machine.folder(&folder, mark.clone());
        for name in ["cache\\index.bin", "logs\\setup.log", "content\\pack1.pak"] {
            one.machine.file(&format!("{folder}\\{name}"), mark.clone());
        }
        if one.once_in(5) {
            one.machine
                .file(&format!("{folder}\\{}.lic", product.short), one.mark("licence").as_class(Class::Settings));
        }
    }
    let users = one.machine.users.clone();
    for (number, user) in users.iter().enumerate() {
        if number != product.user && one.rng.bool() {
            continue;
        }
        if one.rng.bool() {
            let folder = user.folder(&format!("AppData\\Local\\{below}"));
            let cache = one.mark("user cache");
            one.machine.folder(&folder, cache.clone());
            for name in ["Cache\\f_0001", "Cache\\f_0002", "logs\\today.log", "GPUCache\\data_0"] {
                one.machine.file(&format!("{folder}\\{name}"), cache.clone());
            }
        }
        if one.rng.bool() {
            let folder = user.folder(&format!("AppData\\Roaming\\{below}"));
            let settings = one.mark("user settings").as_class(Class::Settings);
            one.machine.file(&format!("{folder}\\settings.json"), settings);
            let document = format!("{folder}\\Lists\\week 7.{}", product.extension);
            one.machine.file(&document, one.mark("documents").as_class(Class::Documents));
            one.machine.file(&format!("{folder}\\logs\\old.log"), one.mark("user cache"));
        }
        if one.rng.bool() {
            let key = user.key(&format!("SOFTWARE\\{below}"));
            one.machine.own_key(&key, &[("Window", "0,0,800,600")], one.mark("user key").as_class(Class::Settings));
        }
        if one.once_in(6) {
            let path = user.folder(&format!("Documents\\{}\\my list.{}", product.plain(), product.extension));
            let mut mark = one.mark("documents").as_class(Class::Documents);
            mark.whose = Whose::Persons;
            one.machine.file(&path, mark);
        }
    }
}
