//! The install folder and what is in it.

use super::Installing;
use crate::machine::Class;
use crate::product::{SecondDrive, second_drive};

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    let mark = one.mark("program folder");
    one.machine.folder(&product.folder, mark.clone());
    let (company, name) = (&product.publisher.told, &product.name);
    one.machine.program(&product.program(), company, name, mark.clone());
    one.machine.file(&format!("{}\\core.dll", product.folder), mark.clone());
    for number in 0..one.rng.usize(2..9) {
        let path = match number % 3 {
            0 => format!("{}\\lib\\part{number}.dll", product.folder),
            1 => format!("{}\\help\\page{number}.html", product.folder),
            _ => format!("{}\\plugins\\{}\\plugin.dll", product.folder, number),
        };
        one.machine.file(&path, mark.clone());
    }
    if one.once_in(3) {
        let path = format!("{}\\update.exe", product.folder);
        one.machine.program(&path, company, name, mark.clone());
    }
    if second_drive(name) == SecondDrive::Backup {
        let backup = format!("D:\\Backup\\old PC\\{}", product.folder.get(3..).unwrap_or_default());
        let person = one.mark("documents").as_class(Class::Documents);
        one.machine.folder(&backup, person.clone());
        one.machine.program(&format!("{backup}\\{}.exe", product.short), company, name, person);
    }
    // A folder of documents elsewhere, reached by a junction that is the product's, as its target is not.
    if one.once_in(8) {
        one.machine.link(&format!("{}\\samples", product.folder), mark);
        let person = one.mark("documents").as_class(Class::Documents);
        one.machine.file(&format!("D:\\Samples\\{name}.dat"), person);
    }
}
