//! The program `stubble`.

use std::process::ExitCode;

use stubble::Ui;

fn main() -> ExitCode {
    #[cfg(windows)]
    if stubble_machine::here::run_errand(std::env::args_os()) {
        return ExitCode::SUCCESS;
    }
    stubble_machine::with_deep_stack(|| stubble::run(std::env::args_os(), &mut Ui::stdio()).into())
}
