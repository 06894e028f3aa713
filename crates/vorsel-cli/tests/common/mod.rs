//! The command as a script runs it.
#![allow(dead_code, reason = "each test uses its part")]

use std::io::Write;
use std::process::{Command, Stdio};

use serde_json::Value;

/// What a call left behind.
#[derive(Debug)]
pub(crate) struct Done {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Done {
    pub(crate) fn json(&self) -> Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {self:?}"))
    }
}

/// Calls `vorsel` with these arguments and this standard input.
pub(crate) fn vorsel_with(arguments: &[&str], input: &[u8]) -> Done {
    let mut child = Command::new(env!("CARGO_BIN_EXE_vorsel"))
        .args(arguments)
        .env_remove("VORSEL_KEYS_FOLDER")
        .env_remove("VORSEL_ISSUER")
        .env_remove("VORSEL_AUDIENCE")
        .env_remove("VORSEL_STORE_ADDRESS")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the command starts");
    let mut stdin = child.stdin.take().expect("standard input");
    let input = input.to_vec();
    // A command that does not read its input closes the pipe.
    let writing = std::thread::spawn(move || drop(stdin.write_all(&input)));
    let output = child.wait_with_output().expect("the command ends");
    writing.join().expect("no panic");
    Done {
        status: output.status.code().expect("no signal"),
        out: String::from_utf8(output.stdout).expect("text"),
        err: String::from_utf8(output.stderr).expect("text"),
    }
}

pub(crate) fn vorsel(arguments: &[&str]) -> Done {
    vorsel_with(arguments, b"")
}
