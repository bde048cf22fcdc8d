//! The `velocitas` command.

use std::process::ExitCode;

fn main() -> ExitCode {
    velocitas::cli::main()
}
