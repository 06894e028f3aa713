//! `vorsel sessions`: which sessions a store keeps, the line of one, and ending them.

mod end;
mod line;
mod list;

use std::process::ExitCode;

use clap::{Args, Subcommand};
use serde_json::{Value, json};
use vorsel::store::StoreAddress;
use vorsel::{Session, Timestamp};

use crate::failure::Failure;
use crate::store_address;

/// See the sessions of a store, and end them.
#[derive(Debug, Args)]
pub(crate) struct SessionsArguments {
    /// The store: sqlite:PATH, postgres://…, redis://… or rediss://….
    #[arg(long, value_name = "STORE", env = "VORSEL_STORE_ADDRESS", hide_env_values = true, global = true)]
    store: Option<StoreAddress>,
    /// Print JSON.
    #[arg(long, global = true)]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    List(list::ListArguments),
    Show(line::ShowArguments),
    End(end::EndArguments),
}

pub(crate) fn run(arguments: &SessionsArguments) -> Result<ExitCode, Failure> {
    tokio::runtime::Runtime::new()?.block_on(run_on_store(arguments))
}

async fn run_on_store(arguments: &SessionsArguments) -> Result<ExitCode, Failure> {
    let store = match &arguments.store {
        None => {
            return Err(Failure::new(
                "which store? expected --store STORE, or VORSEL_STORE_ADDRESS in the environment",
            ));
        }
        Some(address) => store_address::open_existing(address).await?,
    };
    match &arguments.command {
        Command::List(command) => list::run(command, &*store, arguments.json).await,
        Command::Show(command) => line::run(command, &*store, arguments.json).await,
        Command::End(command) => end::run(command, &*store, arguments.json).await,
    }
}

/// Where a session stands: its word, and since or until when.
fn state(session: &Session, now: Timestamp) -> (&'static str, Timestamp) {
    match session.ended {
        Some(ended) => (ended.why.code(), ended.at),
        None if session.is_live(now) => ("live", session.current.idle_until),
        None => ("expired", session.current.idle_until),
    }
}

fn record(session: &Session, now: Timestamp) -> Value {
    json!({
        "session": session.id,
        "subject": session.facts.subject,
        "client_id": session.facts.client_id,
        "device": session.facts.device,
        "acr": session.facts.acr,
        "scope": session.facts.scopes.as_ref().map(vorsel::Scopes::as_str),
        "bound_to": session.facts.bound_to,
        "state": state(session, now).0,
        "renewals": session.current.number,
        "started_at": session.facts.started_at.as_secs(),
        "renewed_at": session.current.began_at.as_secs(),
        "idle_until": session.current.idle_until.as_secs(),
        "ends_at": session.facts.ends_at.as_secs(),
        "ended_at": session.ended.map(|ended| ended.at.as_secs()),
    })
}
