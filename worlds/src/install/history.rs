//! What Windows notes of programs that ran.

use stubble_core::model::RegValue;

use super::Installing;
use crate::machine::Class;

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    if !one.rng.bool() {
        return;
    }
    let mark = one.mark("history").as_class(Class::History);
    let user = one.machine.users[product.user].clone();
    let program = product.program();
    let shown = format!("{program}.FriendlyAppName");
    let cache = format!(
        "{}_Classes\\Local Settings\\Software\\Microsoft\\Windows\\Shell\\MuiCache",
        user.key("").trim_end_matches('\\')
    );
    one.machine.value(&cache, RegValue::text(&shown, &product.name), mark.clone());
    let store =
        user.key("SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\AppCompatFlags\\Compatibility Assistant\\Store");
    one.machine.value(&store, RegValue { name: program.clone(), kind: 3, data: vec![0; 16] }, mark.clone());
    let name = format!("C:\\Windows\\Prefetch\\{}.EXE-1A2B3C4D.pf", product.short.to_uppercase());
    one.machine.file(&name, mark);
}
