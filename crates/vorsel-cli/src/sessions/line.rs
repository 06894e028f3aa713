//! `vorsel sessions show`: one session, and its line of renewals over time.

use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use vorsel::store::SessionStore;
use vorsel::{EndReason, Session, Timestamp, now, spoken};

use super::{record, state};
use crate::failure::Failure;
use crate::paint::{bad, faint, good, heading, printable};

/// Show one session: what is known of it, and when it was renewed.
#[derive(Debug, Args)]
pub(super) struct ShowArguments {
    /// The session ID, the claim sid of its tokens.
    #[arg(value_name = "SESSION", allow_hyphen_values = true)]
    session: String,
}

pub(super) async fn run(
    arguments: &ShowArguments,
    store: &dyn SessionStore,
    as_json: bool,
) -> Result<ExitCode, Failure> {
    let now = now();
    let Some(session) = store.load(&arguments.session).await? else {
        anstream::eprintln!("No session {} is kept.", printable(&arguments.session));
        return Ok(ExitCode::FAILURE);
    };
    if as_json {
        let mut record = record(&session, now);
        let renewals = renewals(&session).into_iter();
        record["last_renewals"] =
            renewals.map(|(generation, at)| json!({ "generation": generation, "at": at.as_secs() })).collect();
        anstream::println!("{}", serde_json::to_string_pretty(&record)?);
    } else {
        anstream::print!("{}", shown(&session, now));
    }
    Ok(ExitCode::SUCCESS)
}

/// The generations that are known after the first, the earliest first, and when each began.
fn renewals(session: &Session) -> Vec<(u64, Timestamp)> {
    let times = [session.current.began_at].into_iter().chain(session.spent.iter().map(|spent| spent.began_at));
    let mut known: Vec<_> = (0..=session.current.number).rev().zip(times).filter(|(number, _)| *number > 0).collect();
    known.reverse();
    known
}

fn shown(session: &Session, now: Timestamp) -> String {
    let mut text = format!("{}\n", heading(format!("Session {}", printable(&session.id))));
    let mut row = |name: &str, value: &str| text.push_str(&format!("  {name:<10} {}\n", printable(value)));
    row("subject", &session.facts.subject);
    row("client", &session.facts.client_id);
    row("device", session.facts.device.as_deref().unwrap_or("–"));
    if let Some(acr) = &session.facts.acr {
        row("acr", acr);
    }
    if let Some(scopes) = &session.facts.scopes {
        row("scopes", scopes.as_str());
    }
    if let Some(thumbprint) = &session.facts.bound_to {
        row("key", thumbprint);
    }
    row(
        "renewed",
        &match session.current.number {
            0 => "never".to_owned(),
            1 => "once".to_owned(),
            times => format!("{times} times"),
        },
    );
    let (word, time) = state(session, now);
    let state = match word {
        "live" => good(format!("live, for {} unless renewed", spoken(time.distance(now)))),
        "expired" => faint(format!("expired {} ago", spoken(now.distance(time)))),
        word => bad(format!("ended {} ago: {word}", spoken(now.distance(time)))),
    };
    text.push_str(&format!("  {:<10} {state}\n\n", "state"));
    text.push_str(&scale(session, now));
    text.push('\n');
    text.push_str(&steps(session, now));
    text
}

const WIDTH: usize = 72;

/// The session as a line from its beginning to its end, or to now: a mark for each renewal that is known.
fn scale(session: &Session, now: Timestamp) -> String {
    let last = session
        .ended
        .map_or_else(|| now.min(session.current.idle_until), |ended| ended.at)
        .max(session.current.began_at);
    let whole = last.distance(session.facts.started_at).as_micros().max(1);
    let column = |at: Timestamp| {
        let part = at.max(session.facts.started_at).distance(session.facts.started_at).as_micros();
        usize::try_from(part * (WIDTH as u128 - 1) / whole).unwrap_or(WIDTH - 1).min(WIDTH - 1)
    };
    let known = renewals(session);
    let mut line = vec!['─'; WIDTH];
    // What came before the renewals that are known.
    if let Some((_, at)) = known.first().filter(|(first, _)| *first > 1) {
        line[..column(*at)].fill('┄');
    }
    line[0] = '├';
    known.iter().for_each(|(_, at)| line[column(*at)] = '┼');
    let end = match session.ended {
        None if session.is_live(now) => good("▶"),
        None => faint("┤"),
        Some(ended) if ended.why == EndReason::Replay => bad("✗"),
        Some(_) => bad("■"),
    };
    let line: String = line.into_iter().collect();
    let (from, to) = (session.facts.started_at.to_string(), last.whole_secs().to_string());
    let from = from.split('.').next().unwrap_or_default().trim_end_matches('Z').to_owned() + "Z";
    let gap = " ".repeat((WIDTH + 1).saturating_sub(from.len() + to.len()));
    format!("  {line}{end}\n  {}\n", faint(format!("{from}{gap}{to}")))
}

fn steps(session: &Session, now: Timestamp) -> String {
    let ago = |at: Timestamp| faint(format!("{} ago", spoken(now.distance(at))));
    let mut text = format!("  {:>6}  signed in   {}\n", 0, session.facts.started_at.whole_secs());
    let known = renewals(session);
    let unknown = session.current.number - known.len() as u64;
    if unknown > 0 {
        text.push_str(&format!("  {:>6}  {}\n", "…", faint(format!("{unknown} renewals that are not kept"))));
    }
    let mut before = (unknown == 0).then_some(session.facts.started_at);
    for (number, at) in known {
        let after = before.map_or_else(String::new, |before| format!("  after {}", spoken(at.distance(before))));
        text.push_str(&format!("  {number:>6}  renewed     {}{}\n", at.whole_secs(), faint(after)));
        before = Some(at);
    }
    if let Some(ended) = session.ended {
        let what = match ended.why {
            EndReason::Replay => "replay      a spent refresh token came back, and the session ended".to_owned(),
            why => format!("ended       {why}"),
        };
        text.push_str(&format!("  {}  {}  {}\n", bad(format!("{:>6}", "✗")), bad(what), ago(ended.at)));
    }
    text
}
