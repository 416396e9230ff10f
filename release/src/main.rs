//! Writes completions for shells, and manual pages, into a folder.

use std::fs;
use std::io;
use std::path::Path;

use clap::{CommandFactory, ValueEnum};
use clap_complete::Shell;

fn main() -> io::Result<()> {
    let folder = std::env::args().nth(1).unwrap_or_else(|| "target/release-files".to_owned());
    let (completions, pages) = (Path::new(&folder).join("completions"), Path::new(&folder).join("man"));
    fs::create_dir_all(&completions)?;
    fs::create_dir_all(&pages)?;
    for shell in Shell::value_variants() {
        clap_complete::generate_to(*shell, &mut stubble::Args::command(), "stubble", &completions)?;
    }
    clap_mangen::generate_to(stubble::Args::command(), &pages)
}
