//! `vorsel plan compare`: who gains and who loses which route.

use std::path::PathBuf;
use std::process::ExitCode;

use clap::Args;
use serde_json::{Value, json};
use vorsel::{Access, Change, Object, Route, RouteChange};

use super::{read_plan, witness_record};
use crate::failure::Failure;
use crate::paint::{bad, faint, good, heading, printable};

/// Compare two plans: who gains which route, who loses it, each with an example. Exit status: 0 if both let the same
/// requests through, 1 if not or if that is not settled.
#[derive(Debug, Args)]
pub(super) struct CompareArguments {
    /// The plan as it was.
    #[arg(value_name = "BEFORE")]
    before: PathBuf,
    /// The plan as it is to be.
    #[arg(value_name = "AFTER")]
    after: PathBuf,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

pub(super) fn run(arguments: &CompareArguments) -> Result<ExitCode, Failure> {
    let changes = read_plan(&arguments.before)?.compare(&read_plan(&arguments.after)?);
    if arguments.json {
        let record = json!({ "same": changes.is_empty(), "changes": changes.iter().map(record).collect::<Vec<_>>() });
        anstream::println!("{}", serde_json::to_string_pretty(&record)?);
    } else {
        changes.iter().for_each(|change| anstream::println!("{}", shown(change)));
        anstream::println!("{}", summary(&changes));
    }
    Ok(if changes.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn shown(change: &RouteChange) -> String {
    let mut text = format!("{}\n", heading(printable(&format!("{} {}", change.method(), change.path()))));
    let (before, after) = (entry(&change.before, change), entry(&change.after, change));
    if before == after {
        let line = format!("need    {before}  (as before; what it names has changed)");
        text.push_str(&format!("  {}\n", faint(printable(&line))));
    } else {
        for line in [format!("before  {before}"), format!("after   {after}")] {
            text.push_str(&format!("  {}\n", faint(printable(&line))));
        }
    }
    for (word, list) in [(good("gains"), &change.gains), (bad("loses"), &change.loses)] {
        let width = list.iter().map(|change| change.who.to_string().len()).max().unwrap_or_default();
        for Change { who, witness, .. } in list {
            let who = printable(&who.to_string());
            let mut example = if witness.claims() == Object::new() { String::new() } else { witness.described() };
            if witness.path() != change.path() {
                example = format!("{} by {}", witness.path(), witness.described());
            }
            let example = if example.is_empty() { example } else { format!("  {}", faint(printable(&example))) };
            let who = if example.is_empty() { who } else { format!("{who:width$}") };
            text.push_str(&format!("  {word}   {who}{example}\n"));
        }
    }
    if !change.is_settled {
        text.push_str("  not settled whether anybody else gains or loses it\n");
    }
    text
}

/// The entry in the words of the plan, with its path where that is another one.
fn entry(route: &Option<Route>, change: &RouteChange) -> String {
    let Some(route) = route else { return "no entry: refused".to_owned() };
    let access = match route.access() {
        Access::Open => "open".to_owned(),
        Access::Need(rule) => rule.to_string(),
        _ => String::new(),
    };
    if (route.method(), route.path()) == (change.method(), change.path()) {
        return access;
    }
    format!("{access}  ({} {})", route.method(), route.path())
}

fn summary(changes: &[RouteChange]) -> String {
    if changes.is_empty() {
        return good("Both plans let the same requests through.");
    }
    let count = |has: fn(&RouteChange) -> bool| changes.iter().filter(|change| has(change)).count();
    let (gained, lost) = (count(|change| !change.gains.is_empty()), count(|change| !change.loses.is_empty()));
    let routes = |count: usize| format!("{count} route{}", if count == 1 { "" } else { "s" });
    let open = count(|change| !change.is_settled);
    let open = if open > 0 { format!(", not settled for {}", routes(open)) } else { String::new() };
    format!("somebody gains {}, somebody loses {}{open}", routes(gained), routes(lost))
}

fn record(change: &RouteChange) -> Value {
    let route = |route: &Option<Route>| {
        route.as_ref().map(|route| {
            let need = match route.access() {
                Access::Need(rule) => Some(rule.to_string()),
                _ => None,
            };
            json!({ "method": route.method(), "path": route.path(), "open": need.is_none(), "need": need })
        })
    };
    let list = |list: &[Change]| -> Vec<Value> {
        let one =
            |change: &Change| json!({ "who": change.who.to_string(), "example": witness_record(&change.witness) });
        list.iter().map(one).collect()
    };
    json!({
        "method": change.method(),
        "path": change.path(),
        "before": route(&change.before),
        "after": route(&change.after),
        "gains": list(&change.gains),
        "loses": list(&change.loses),
        "settled": change.is_settled,
    })
}
