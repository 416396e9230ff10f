//! A world as a description from which a machine with real files and hives can be made; the form is
//! that of `docs/format-world.md`. What it has no words for is left out: links, empty folders, and
//! what an installer package says of itself.

use stubble_core::model::RegValue;
use stubble_core::model::registry::text_of;
use toml::{Table, Value};

use crate::World;
use crate::machine::{File, Machine, User};

fn table(pairs: impl IntoIterator<Item = (&'static str, Value)>) -> Value {
    Value::Table(pairs.into_iter().map(|(name, value)| (name.to_owned(), value)).collect())
}

fn text(text: &str) -> Value {
    Value::String(text.to_owned())
}

/// The text of a world.
pub fn description(world: &World) -> String {
    let machine = &world.machine;
    let mut all = Table::new();
    let dated = "2026-02-27T16:40:00Z";
    let computer = [
        ("name", text("WEIGH-03")),
        ("product", text("Windows 10 Pro")),
        ("version", text("10.0.19045")),
        ("dated", text(dated)),
        ("now", text("2026-03-02T06:40:00Z")),
    ];
    all.insert("computer".into(), table(computer));
    let user = |user: &User| table([("name", text(&user.name)), ("sid", text(&user.sid))]);
    all.insert("user".into(), Value::Array(machine.users.iter().map(user).collect()));
    // A disk is one drive.
    let on_c = || machine.files.iter().filter(|(path, _)| path.starts_with("C:\\"));
    let files = on_c().filter_map(|(path, (file, _))| row(path, file));
    all.insert("file".into(), Value::Array(files.collect()));
    let shortcuts = on_c().filter_map(|(path, (file, _))| match file {
        File::Shortcut(target) => Some(table([("path", text(path)), ("target", text(target))])),
        _ => None,
    });
    all.insert("shortcut".into(), Value::Array(shortcuts.collect()));
    let keys = machine.keys.keys().filter(|key| key.matches('\\').count() > 1);
    let layers = machine.layers.iter().flat_map(|(list, layers)| {
        layers.iter().enumerate().map(move |(number, (layer, _))| {
            let value = layer.value();
            let values = Table::from_iter([(value.name.clone(), told(&value))]);
            table([("path", text(&format!("{list}\\{:012}", number + 1))), ("values", Value::Table(values))])
        })
    });
    all.insert("key".into(), Value::Array(keys.map(|key| key_row(machine, key)).chain(layers).collect()));
    let processes = machine.running.iter().enumerate().map(|(number, image)| {
        let (pid, running) = (Value::Integer(100 + number as i64), Value::Boolean(true));
        table([("pid", pid), ("running", running), ("image", text(image))])
    });
    all.insert("process".into(), Value::Array(processes.collect()));
    all.to_string()
}

fn row(path: &str, file: &File) -> Option<Value> {
    let size = ("size", Value::Integer(96));
    let content = match file {
        File::Folder | File::Link | File::Shortcut(_) => return None,
        File::Plain | File::Package(..) | File::Patch(_) => size,
        File::Program(company, product) => {
            let told = table([("company", text(company)), ("product", text(product))]);
            return Some(table([("path", text(path)), ("program", told)]));
        }
        File::Task(command) => {
            let command = command.replace('&', "&amp;").replace('<', "&lt;");
            ("text", text(&format!("<Task><Actions><Exec><Command>{command}</Command></Exec></Actions></Task>")))
        }
    };
    Some(table([("path", text(path)), content]))
}

fn key_row(machine: &Machine, key: &str) -> Value {
    let mut values = Table::new();
    let own = machine.values.range((key.to_owned(), String::new())..).take_while(|((at, _), _)| at == key);
    for ((_, name), (value, _)) in own {
        values.insert(name.clone(), told(value));
    }
    let lists = machine.lists.range((key.to_owned(), String::new())..).take_while(|((at, _), _)| at == key);
    for ((_, name), entries) in lists {
        let entries: Vec<&str> = entries.iter().map(|(entry, _)| entry.as_str()).collect();
        let list = match name.ends_with("Filters") {
            true => ("multi", Value::Array(entries.into_iter().map(text).collect())),
            false => ("expand", text(&entries.join(";"))),
        };
        values.insert(name.clone(), table([list]));
    }
    values.extend(machine.layer_counts(key).into_iter().map(|value| (value.name.clone(), told(&value))));
    let mut path = key.to_owned();
    for user in &machine.users {
        path = path.replacen(&format!("HKU\\{}", user.sid), &format!("HKU\\{}", user.name), 1);
    }
    table([("path", text(&path)), ("values", Value::Table(values))])
}

fn told(value: &RegValue) -> Value {
    let bytes = || Value::Array(value.data.iter().map(|byte| Value::Integer((*byte).into())).collect());
    match (value.kind, value.data.as_slice()) {
        (1, data) => text(&text_of(data)),
        (2, data) => table([("expand", text(&text_of(data)))]),
        (4, [a, b, c, d]) => Value::Integer(u32::from_le_bytes([*a, *b, *c, *d]).into()),
        _ => table([("bytes", bytes())]),
    }
}
