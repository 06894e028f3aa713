//! `vorsel password`: the hash of a password, for seed data.

use std::io::{self, BufRead, IsTerminal};
use std::process::ExitCode;

use clap::Args;
use zeroize::Zeroizing;

use crate::failure::Failure;

/// Read a password from standard input and print its hash, Argon2id as a PHC string, for seed data.
#[derive(Debug, Args)]
pub(crate) struct PasswordArguments {}

pub(crate) fn run(_: &PasswordArguments) -> Result<ExitCode, Failure> {
    if io::stdin().is_terminal() {
        anstream::eprintln!("Type the password, which is shown here, and press Enter:");
    }
    let mut line = Zeroizing::new(String::new());
    io::stdin().lock().read_line(&mut line)?;
    anstream::println!("{}", vorsel::hash_password(line.trim_end_matches(['\n', '\r']))?);
    Ok(ExitCode::SUCCESS)
}
