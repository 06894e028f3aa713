//! `vorsel sessions list`.

use std::process::ExitCode;

use clap::Args;
use serde_json::json;
use vorsel::store::SessionStore;
use vorsel::{Session, Timestamp, now, spoken};

use super::{record, state};
use crate::failure::Failure;
use crate::paint::{bad, faint, good, heading, printable};

/// List sessions: of one subject, or all of them.
#[derive(Debug, Args)]
pub(super) struct ListArguments {
    /// Only the sessions of this subject.
    #[arg(long, value_name = "SUBJECT")]
    subject: Option<String>,
    /// Only sessions that can still be renewed.
    #[arg(long)]
    live: bool,
}

const PAGE: u32 = 500;

pub(super) async fn run(
    arguments: &ListArguments,
    store: &dyn SessionStore,
    as_json: bool,
) -> Result<ExitCode, Failure> {
    let now = now();
    let mut sessions = match &arguments.subject {
        Some(subject) => store.of_subject(subject).await?,
        None => all(store).await?,
    };
    sessions.retain(|session| !arguments.live || session.is_live(now));
    sessions.sort_by_key(|session| session.facts.started_at);
    if as_json {
        let sessions: Vec<_> = sessions.iter().map(|session| record(session, now)).collect();
        anstream::println!("{}", serde_json::to_string_pretty(&json!({ "sessions": sessions }))?);
    } else if sessions.is_empty() {
        anstream::println!("No sessions.");
    } else {
        anstream::print!("{}", table(&sessions, now));
    }
    Ok(ExitCode::SUCCESS)
}

async fn all(store: &dyn SessionStore) -> Result<Vec<Session>, Failure> {
    let mut sessions: Vec<Session> = Vec::new();
    loop {
        let page = store.page(sessions.last().map(|session| session.id.as_str()), PAGE).await?;
        let is_last = page.len() < PAGE as usize;
        sessions.extend(page);
        if is_last {
            return Ok(sessions);
        }
    }
}

const COLUMNS: [&str; 7] = ["Session", "Subject", "Device", "Age", "Last renewed", "Times", "State"];

fn table(sessions: &[Session], now: Timestamp) -> String {
    let ago = |time: Timestamp| format!("{} ago", spoken(now.distance(time)));
    let rows: Vec<[String; 7]> = sessions
        .iter()
        .map(|session| {
            let (word, time) = state(session, now);
            let state =
                if word == "live" { format!("live for {}", spoken(time.distance(now))) } else { word.to_owned() };
            let renewed = if session.current.number == 0 { "–".to_owned() } else { ago(session.current.began_at) };
            let device = session.facts.device.clone().unwrap_or_else(|| session.facts.client_id.clone());
            [
                session.id.clone(),
                session.facts.subject.clone(),
                device,
                spoken(now.distance(session.facts.started_at)),
                renewed,
                session.current.number.to_string(),
                state,
            ]
            .map(|cell| printable(&cell))
        })
        .collect();
    let width = |column: usize| {
        let cells = rows.iter().map(|row| row[column].chars().count());
        cells.chain([COLUMNS[column].len()]).max().unwrap_or_default()
    };
    let widths: [usize; 7] = std::array::from_fn(width);
    let line = |cells: &[String; 7], paint: &dyn Fn(usize, String) -> String| {
        let padded = cells.iter().enumerate().map(|(column, cell)| {
            let room = if column + 1 == COLUMNS.len() { 0 } else { widths[column] };
            let gap = " ".repeat(room.saturating_sub(cell.chars().count()));
            paint(column, if column == 5 { format!("{gap}{cell}") } else { format!("{cell}{gap}") })
        });
        padded.collect::<Vec<_>>().join("  ") + "\n"
    };
    let mut text = line(&COLUMNS.map(str::to_owned), &|_, cell| heading(cell));
    for (row, session) in rows.iter().zip(sessions) {
        text.push_str(&line(row, &|column, cell| match (column, state(session, now).0) {
            (6, "live") => good(cell),
            (6, "replay") => bad(cell),
            (6, _) => faint(cell),
            _ => cell,
        }));
    }
    text
}
