//! `vorsel tour`: the whole job on demo data, over real HTTP, told step by step.

mod archive;
mod client;
mod log;
mod stage;
mod steps;

use std::process::ExitCode;

use clap::Args;

use crate::failure::Failure;
use crate::paint::{bad, good};

/// See the whole job on demo data: sign in, call guarded routes, be refused, renew, sign out.
///
/// Starts the observatory API on a free loopback port with an embedded store and drives it over HTTP; in a second act, a service
/// beside it that has no store. Exit status: 0 if every step came out as told, 1 if not.
#[derive(Debug, Args)]
pub(crate) struct TourArguments {}

pub(crate) fn run(_: &TourArguments) -> Result<ExitCode, Failure> {
    let log = log::install();
    let (told, total) = tokio::runtime::Runtime::new()?.block_on(steps::walk(log))?;
    if told == total {
        anstream::println!("\n{}", good(format!("All {total} steps came out as told.")));
        Ok(ExitCode::SUCCESS)
    } else {
        anstream::println!("\n{}", bad(format!("{} of {total} steps did not come out as told.", total - told)));
        Ok(ExitCode::from(1))
    }
}
