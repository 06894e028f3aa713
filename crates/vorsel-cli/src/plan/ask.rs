//! `vorsel plan ask`: does this caller reach this route, and why or why not?

use std::io::{self, Read};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use serde_json::{Value, json};
use vorsel::rule::Reason;
use vorsel::{
    Access, AccessPlan, AccessRow, Credential, Credentials, Object, Outcome, Reach, Scopes, SupposedCaller,
    UncheckedToken, Verdict, Why, now,
};

use super::PlanFile;
use super::table::row_record;
use crate::failure::Failure;
use crate::issue::claim;
use crate::paint::{bad, faint, good, heading, printable};

/// Ask whether a caller reaches a route, and why. The caller is supposed: nothing about it is checked. Asked without a
/// caller it says who may reach the route.
///
/// Exit status: 0 if the request goes through, 1 if not.
#[derive(Debug, Args)]
#[command(override_usage = "vorsel plan ask [OPTIONS] [FILE] <METHOD> <PATH>")]
pub(super) struct AskArguments {
    /// The plan, an access.toml, unless it is named otherwise; the method, as GET; and the path as a client would send it,
    /// without the query.
    #[arg(value_names = ["FILE", "METHOD", "PATH"], num_args = 2..=3, required = true)]
    request: Vec<String>,
    /// The plan as an option.
    #[arg(long, value_name = "FILE", env = "VORSEL_PLAN")]
    plan: Option<PathBuf>,
    /// Take the caller from the token on standard input, unchecked.
    #[arg(long, conflicts_with_all = ["subject", "roles", "scope", "claims", "acr", "client", "issuer", "signed_in_ago"])]
    token: bool,
    /// Who calls; without this, a role, a scope or a claim, nobody does.
    #[arg(long, value_name = "SUBJECT")]
    subject: Option<String>,
    /// A role; give the option again for more.
    #[arg(long = "role", value_name = "ROLE")]
    roles: Vec<String>,
    /// Scopes, with a space between them.
    #[arg(long, value_name = "SCOPES")]
    scope: Option<String>,
    /// A claim of the app's own, the value as JSON or plain text; give the option again for more.
    #[arg(long = "claim", value_name = "NAME=VALUE", value_parser = claim)]
    claims: Vec<(String, Value)>,
    /// How the caller authenticated.
    #[arg(long, value_name = "ACR")]
    acr: Option<String>,
    /// The client by which the caller comes; a client that calls for itself is its own subject.
    #[arg(long, value_name = "CLIENT")]
    client: Option<String>,
    /// The issuer of the token, another one than our own.
    #[arg(long, value_name = "ISSUER")]
    issuer: Option<String>,
    /// The client whose API key comes along.
    #[arg(long, value_name = "CLIENT")]
    key_of: Option<String>,
    /// A kind of credential that the caller comes with: bearer, cookie, api-key or ticket; bearer if none is named.
    #[arg(long = "credential", value_name = "KIND")]
    credentials: Vec<Credential>,
    /// What a predicate of the app's own says; one that is not named has not answered.
    #[arg(long = "predicate", value_name = "NAME=yes|no", value_parser = answer)]
    predicates: Vec<(String, bool)>,
    /// How long ago the caller authenticated, 90s or 20m for instance; now if it is left out.
    #[arg(long, value_name = "DURATION", value_parser = vorsel::read_duration)]
    signed_in_ago: Option<Duration>,
    /// Print JSON.
    #[arg(long)]
    json: bool,
}

impl AskArguments {
    /// The plan's file, if it stands first, the method and the path.
    fn parts(&self) -> (Option<&str>, &str, &str) {
        match self.request.as_slice() {
            [file, method, path] => (Some(file), method, path),
            [method, path] => (None, method, path),
            _ => (None, "", ""),
        }
    }
}

pub(super) fn run(arguments: &AskArguments) -> Result<ExitCode, Failure> {
    let (file, method, path) = arguments.parts();
    let plan = PlanFile { file: file.map(PathBuf::from), plan: arguments.plan.clone() }.open()?;
    let claims = if arguments.token { Some(claims_of_token()?) } else { supposed(arguments)? };
    let caller = claims.as_ref().map(SupposedCaller::with).transpose()?.map(|caller| known_by(caller, arguments));
    let who = if caller.is_none() { plan.who(method, path) } else { None };
    let who = who.filter(|row| *row.route.access() != Access::Open);
    let why = plan.why(method, path, caller.as_ref(), now());
    if arguments.json {
        anstream::println!(
            "{}",
            serde_json::to_string_pretty(&record(arguments, &why, &plan, who.as_ref(), caller.is_none()))?
        );
    } else {
        anstream::print!(
            "{}{}",
            shown(arguments, &why, caller.is_none()),
            who.map_or(String::new(), |row| reached(&plan, &row))
        );
    }
    let through = matches!(why.verdict, Verdict::Open | Verdict::Allowed);
    Ok(if through { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn answer(text: &str) -> Result<(String, bool), String> {
    match text.split_once('=') {
        Some((name, "yes")) => Ok((name.to_owned(), true)),
        Some((name, "no")) => Ok((name.to_owned(), false)),
        _ => Err("expected the name of a predicate and its answer: owns-exposure=yes".to_owned()),
    }
}

/// The caller with the credentials and the answers that the options tell of.
fn known_by(caller: SupposedCaller, arguments: &AskArguments) -> SupposedCaller {
    let AskArguments { credentials, predicates, .. } = arguments;
    let caller = match credentials.as_slice() {
        [] => caller,
        kinds => caller.by(kinds.iter().fold(Credentials::NONE, |all, kind| all.with(*kind))),
    };
    let caller = if arguments.issuer.is_some() { caller.of_another_issuer() } else { caller };
    let caller = arguments.key_of.iter().fold(caller, |caller, client| caller.with_key_of(client));
    predicates.iter().fold(caller, |caller, (name, yes)| caller.answered(name, *yes))
}

/// Who may reach the route, one line for each sort of caller.
fn reached(plan: &AccessPlan, row: &AccessRow) -> String {
    let columns = plan.columns();
    let width = columns.iter().map(|who| who.to_string().len()).max().unwrap_or_default();
    let mut text = format!("  {}\n", heading("who may"));
    for (who, reach) in columns.iter().zip(&row.reach) {
        let reach = match reach {
            Reach::Yes => good("yes"),
            Reach::If(rule) => format!("if {}", printable(&rule.to_string())),
            Reach::No => faint("no"),
            _ => "not settled".to_owned(),
        };
        text.push_str(&format!("  {:width$}  {reach}\n", printable(&who.to_string())));
    }
    if let Some(witness) = &row.together {
        text.push_str(&format!("  only with several roles at once: {}\n", printable(&witness.to_string())));
    }
    text
}

fn claims_of_token() -> Result<Object, Failure> {
    let mut token = String::new();
    io::stdin().lock().take(1 << 20).read_to_string(&mut token)?;
    let claims = UncheckedToken::read(token.trim_end())?.claims().cloned();
    claims.ok_or_else(|| Failure::new("expected a token with claims, but found one whose payload is no JSON object"))
}

/// The claims that the options tell of, or nothing if they tell of nobody.
fn supposed(arguments: &AskArguments) -> Result<Option<Object>, Failure> {
    let AskArguments { subject, roles, scope, claims, acr, client, issuer, signed_in_ago, .. } = arguments;
    let nobody = subject.is_none() && roles.is_empty() && scope.is_none() && claims.is_empty() && acr.is_none();
    let nobody = nobody && client.is_none() && issuer.is_none() && arguments.key_of.is_none();
    if nobody && signed_in_ago.is_none() && arguments.credentials.is_empty() && arguments.predicates.is_empty() {
        return Ok(None);
    }
    let mut caller: Object = claims.iter().cloned().collect();
    let mut set = |name: &str, value: Value| drop(caller.insert(name.to_owned(), value));
    set("sub", subject.as_deref().unwrap_or("somebody").into());
    set("roles", roles.clone().into());
    set("scope", Scopes::parse(scope.as_deref().unwrap_or_default())?.as_str().into());
    set("auth_time", now().before(signed_in_ago.unwrap_or_default()).as_secs().into());
    for (name, value) in [("acr", acr), ("client_id", client), ("iss", issuer)] {
        value.iter().for_each(|value| set(name, value.as_str().into()));
    }
    Ok(Some(caller))
}

/// The verdict in a word, and the status that the guard would answer; none if the handler answers or a predicate is to.
fn verdict(why: &Why, anonymous: bool) -> (&'static str, Option<u16>) {
    let word = match &why.verdict {
        Verdict::Open => "open",
        Verdict::Allowed => "allowed",
        Verdict::NeedsCaller => "needs-caller",
        Verdict::Refused(unmet) if unmet.step_up.is_some() => "needs-fresh-sign-in",
        Verdict::Refused(_) => "refused",
        Verdict::NeedsPredicate(_) => "needs-predicate",
        Verdict::Methods(_) => "options",
        Verdict::NoMethod(_) => "no-method",
        _ => "no-rule",
    };
    let caller = (!anonymous).then_some(());
    let status = match Outcome::of(why.verdict.clone(), Ok(caller)) {
        Outcome::Stopped(stop) => Some(stop.answer("").status),
        _ => None,
    };
    (word, status)
}

fn shown(arguments: &AskArguments, why: &Why, anonymous: bool) -> String {
    let request = printable(&{
        let (_, method, path) = arguments.parts();
        format!("{method} {path}")
    });
    let (word, status) = verdict(why, anonymous);
    let outcome = match status {
        None if matches!(why.verdict, Verdict::NeedsPredicate(_)) => heading(word),
        None => good(word),
        Some(status @ 200..300) => good(format!("{word} ({status})")),
        Some(status) => bad(format!("{word} ({status})")),
    };
    let mut text = format!("{} → {outcome}\n", heading(request));
    let entry = why.route.as_ref().map(|route| {
        let access = match route.access() {
            Access::Open => "open".to_owned(),
            Access::Need(rule) => format!("need {rule}"),
            _ => String::new(),
        };
        format!("{} {}: {access}", route.method(), route.path())
    });
    let entry = entry.unwrap_or_else(|| "the plan has no entry for this method and path".to_owned());
    text.push_str(&format!("  {}\n", faint(printable(&entry))));
    if let Some(reason) = &why.reason {
        marked(&mut text, reason, 1);
    }
    for doubt in &why.doubts {
        text.push_str(&format!("  {} {}\n", heading("!"), printable(doubt)));
    }
    text
}

fn marked(text: &mut String, reason: &Reason, depth: usize) {
    let sign = match reason.held {
        Some(true) => good("✓"),
        Some(false) => bad("✗"),
        None => heading("?"),
    };
    let seen =
        reason.seen.as_ref().map(|seen| format!("  {}", faint(printable(&format!("has {seen}"))))).unwrap_or_default();
    text.push_str(&format!("{}{sign} {}{seen}\n", "  ".repeat(depth), printable(&reason.rule)));
    reason.parts.iter().for_each(|part| marked(text, part, depth + 1));
}

fn record(arguments: &AskArguments, why: &Why, plan: &AccessPlan, who: Option<&AccessRow>, anonymous: bool) -> Value {
    let (word, status) = verdict(why, anonymous);
    let route = why.route.as_ref().map(|route| {
        let need = match route.access() {
            Access::Need(rule) => Some(rule.to_string()),
            _ => None,
        };
        json!({ "method": route.method(), "path": route.path(), "need": need })
    });
    json!({
        "method": arguments.parts().1,
        "path": arguments.parts().2,
        "verdict": word,
        "status": status,
        "route": route,
        "doubts": why.doubts,
        "reason": why.reason.as_ref().map(reason_record),
        "who": who.map(|row| row_record(&plan.columns().iter().map(ToString::to_string).collect::<Vec<_>>(), row)),
    })
}

fn reason_record(reason: &Reason) -> Value {
    json!({
        "rule": reason.rule,
        "held": reason.held,
        "seen": reason.seen,
        "parts": reason.parts.iter().map(reason_record).collect::<Vec<_>>(),
    })
}
