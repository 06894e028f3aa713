//! `vorsel sessions end`.

use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use serde_json::json;
use vorsel::store::{End, SessionStore, Which};
use vorsel::{EndReason, Ended, Timestamp, now};

use crate::failure::Failure;
use crate::paint::good;

/// End sessions: one, all of a subject, or all that began before a moment. Instances that follow the store's feed refuse
/// their access tokens from then on.
#[derive(Debug, Args)]
pub(super) struct EndArguments {
    #[command(flatten)]
    which: Chosen,
    /// For how long the instances have to remember it: the longest lifetime of your access tokens.
    #[arg(long, value_name = "DURATION", default_value = "1d", value_parser = vorsel::read_duration)]
    remember: Duration,
}

#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
struct Chosen {
    /// The session ID, the claim sid of its tokens.
    #[arg(value_name = "SESSION", allow_hyphen_values = true)]
    session: Option<String>,
    /// Every session of this subject.
    #[arg(long, value_name = "SUBJECT")]
    subject: Option<String>,
    /// Every session that began before this moment, in seconds since 1970; "now" for all there are.
    #[arg(long, value_name = "UNIX_SECONDS")]
    before: Option<Moment>,
}

#[derive(Clone, Copy, Debug)]
enum Moment {
    Now,
    At(Timestamp),
}

impl std::str::FromStr for Moment {
    type Err = &'static str;

    fn from_str(text: &str) -> Result<Self, &'static str> {
        let seconds = text.parse().ok().filter(|seconds: &f64| seconds.is_finite());
        match (text, seconds) {
            ("now", _) => Ok(Self::Now),
            (_, Some(seconds)) => Ok(Self::At(Timestamp::from_secs_f64(seconds))),
            _ => Err("expected seconds since 1970, or now"),
        }
    }
}

pub(super) async fn run(
    arguments: &EndArguments,
    store: &dyn SessionStore,
    as_json: bool,
) -> Result<ExitCode, Failure> {
    let now = store.time().await?.unwrap_or_else(now);
    let Chosen { session, subject, before } = &arguments.which;
    if let Some(Moment::At(found)) = before.filter(|before| matches!(before, Moment::At(moment) if *moment > now)) {
        return Err(Failure::new(format!("expected a moment up to now, {now}, but found {found}")));
    }
    let which = match (session, subject, before) {
        (Some(id), ..) => Which::One(id),
        (_, Some(subject), _) => Which::OfSubject(subject),
        (.., Some(Moment::At(moment))) => Which::StartedBefore(*moment),
        _ => Which::StartedBefore(now),
    };
    let until = now.after(arguments.remember);
    let count = store.end(End { which, ended: Ended { at: now, why: EndReason::Withdrawn }, until }).await?;
    if as_json {
        anstream::println!("{}", json!({ "ended": count }));
    } else {
        match count {
            None => {
                anstream::println!("{} every session of that time; how many there were is not counted", good("Ended:"));
            }
            Some(0) => anstream::println!("No session that was live is meant; nothing ended."),
            Some(1) => anstream::println!("{} 1 session", good("Ended:")),
            Some(count) => anstream::println!("{} {count} sessions", good("Ended:")),
        }
    }
    Ok(if count == Some(0) { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}
