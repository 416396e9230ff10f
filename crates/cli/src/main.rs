//! The program `stubble`.

use std::process::ExitCode;

use stubble::Ui;

fn main() -> ExitCode {
    stubble::run(std::env::args_os(), &mut Ui::stdio()).into()
}
