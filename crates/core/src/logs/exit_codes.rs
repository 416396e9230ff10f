//! Public exit codes in plain words.

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

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/exit_codes.toml")).expect("the table is tested"));

/// What an exit code of the package installer means, where it is known.
pub fn meaning(code: u32) -> Option<&'static str> {
    TABLE.code.iter().find(|row| row.number == code).map(|row| row.means.as_str())
}

/// Whether the code says that the installation finished.
pub fn is_success(code: u32) -> bool {
    matches!(code, 0 | 1641 | 3010)
}
