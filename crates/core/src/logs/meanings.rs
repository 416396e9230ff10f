//! Public exit, error and result codes, and the package installer's numbered messages, in plain words.

use std::sync::LazyLock;

use serde::Deserialize;

#[derive(Deserialize)]
struct Table {
    code: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    number: u32,
    means: String,
}

static EXIT: LazyLock<Table> = LazyLock::new(|| table(include_str!("../../data/exit_codes.toml")));
static MESSAGES: LazyLock<Table> = LazyLock::new(|| table(include_str!("../../data/installer_messages.toml")));
static SYSTEM: LazyLock<Table> = LazyLock::new(|| table(include_str!("../../data/system_codes.toml")));

fn table(text: &str) -> Table {
    toml::from_str(text).expect("the tables are tested")
}

fn find(table: &'static Table, number: u32) -> Option<&'static str> {
    table.code.iter().find(|row| row.number == number).map(|row| row.means.as_str())
}

/// What an exit code of the package installer means, where it is known.
pub fn meaning(code: u32) -> Option<&'static str> {
    find(&EXIT, code)
}

/// What a numbered message of the package installer is about.
pub fn message(number: u32) -> Option<&'static str> {
    find(&MESSAGES, number)
}

/// What an error code of the system, or a result code in which one is wrapped, means.
///
/// A result code `0x8007nnnn` carries the system's code nnnn, as publicly documented for HRESULT.
pub fn system(code: u32) -> Option<&'static str> {
    let plain = if code >> 16 == 0x8007 { code & 0xFFFF } else { code };
    find(&SYSTEM, code).or_else(|| find(&SYSTEM, plain)).or_else(|| find(&EXIT, plain))
}

/// Whether the code says that the installation is finished by a restart.
pub fn needs_restart(code: u32) -> bool {
    matches!(code, 1641 | 3010)
}

/// Whether the code says that the installation finished.
pub fn is_success(code: u32) -> bool {
    code == 0 || needs_restart(code)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_table_can_be_read_and_has_each_number_once() {
        for table in [&*EXIT, &*MESSAGES, &*SYSTEM] {
            let mut numbers: Vec<u32> = table.code.iter().map(|row| row.number).collect();
            let all = numbers.len();
            numbers.sort_unstable();
            numbers.dedup();
            assert_eq!(numbers.len(), all);
            assert!(table.code.iter().all(|row| !row.means.is_empty() && !row.means.ends_with('.')));
        }
    }

    #[test]
    fn a_result_code_is_unwrapped() {
        assert_eq!(system(0x8007_0643), meaning(1603));
        assert_eq!(system(0x8007_0005), system(5));
        assert_eq!(system(0xDEAD_BEEF), None);
    }
}
