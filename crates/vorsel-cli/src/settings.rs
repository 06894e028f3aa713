//! The settings file, which stands behind the options of every command.

use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

use clap::Command;
use vorsel::Settings;

use crate::failure::Failure;
use crate::paint::{bad, printable};

/// The environment as settings are read from it.
pub(crate) fn variables() -> impl Iterator<Item = (String, String)> {
    std::env::vars_os().filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)))
}

/// The file that the call names, or the variable `VORSEL_SETTINGS`.
pub(crate) fn named(arguments: &[OsString]) -> Option<PathBuf> {
    let mut rest = arguments.iter().skip(1).take_while(|argument| *argument != "--");
    while let Some(argument) = rest.next() {
        if argument == "--settings" {
            return rest.next().map(PathBuf::from);
        }
        if let Some(file) = argument.to_str().and_then(|argument| argument.strip_prefix("--settings=")) {
            return Some(file.into());
        }
    }
    std::env::var_os("VORSEL_SETTINGS").filter(|file| !file.is_empty()).map(PathBuf::from)
}

/// The command with what the file says as the default of each option that has a variable of the same name. What the call or the
/// environment says goes before it.
pub(crate) fn behind(command: Command, file: &PathBuf) -> Result<Command, Failure> {
    let settings = Settings::load(file)?;
    for warning in settings.warnings() {
        anstream::eprintln!("{}: {}", bad("warning"), printable(warning));
    }
    Ok(with_defaults(command, settings.as_variables()))
}

fn with_defaults(command: Command, known: &[(String, OsString)]) -> Command {
    let value = |variable: Option<&OsStr>| {
        known.iter().find(|(name, _)| Some(OsStr::new(name)) == variable).map(|(_, value)| value.clone())
    };
    let found: Vec<_> = command
        .get_arguments()
        .filter_map(|argument| Some((argument.get_id().clone(), value(argument.get_env())?)))
        .collect();
    let inner: Vec<_> = command.get_subcommands().map(|inner| inner.get_name().to_owned()).collect();
    let command = found.into_iter().fold(command, |command, (id, value)| {
        command.mut_arg(id, |argument| argument.default_value(value).required(false).hide_default_value(true))
    });
    inner.into_iter().fold(command, |command, name| command.mut_subcommand(name, |inner| with_defaults(inner, known)))
}
