//! A token explained for people.

use std::fmt::Write;

use serde_json::Value;
use vorsel::{Check, Finding, Findings, Object, Timestamp, UncheckedToken, spoken};

use crate::paint::{bad, faint, good, heading, printable};

/// The whole explanation: header, claims, findings, verdict.
pub(super) fn explained(token: &[u8], findings: &Findings<Object>, not_checked: &[&str], now: Timestamp) -> String {
    let mut text = String::new();
    if let Ok(unchecked) = UncheckedToken::read(token) {
        section(&mut text, "Header", unchecked.header(), now);
        match unchecked.claims() {
            Some(claims) => section(&mut text, "Claims", claims, now),
            None => text.push_str("Claims that cannot be read\n\n"),
        }
    }
    let _ = writeln!(text, "{}", heading("Findings"));
    for finding in findings.iter().filter(|finding| finding.check != Check::OwnClaims) {
        if finding.held { held(&mut text, finding) } else { failed(&mut text, finding) }
    }
    for name in not_checked {
        let _ = writeln!(text, "  - {name:<24} {}", faint(format!("not checked without --{name}")));
    }
    let _ = writeln!(text, "  - {:<24} {}", "own claims", faint("not checked: only the app knows their type"));
    let refused: Vec<_> = findings.refused_for().map(|finding| finding.check.code()).collect();
    let _ = match refused.as_slice() {
        [] => writeln!(text, "\n{}", good("Accepted")),
        codes => writeln!(text, "\n{} for {}", bad("Refused"), codes.join(", ")),
    };
    text
}

fn section(text: &mut String, title: &str, members: &Object, now: Timestamp) {
    let _ = writeln!(text, "{} {}", heading(title), faint("as the token says, before any check"));
    let width = members.keys().map(|name| printable(name).chars().count()).max().unwrap_or(0).min(32);
    for (name, value) in members {
        let shown = printable(&value.to_string());
        let when = date(name, value, now).map_or(String::new(), |when| format!("  {}", faint(when)));
        let _ = writeln!(text, "  {:width$}  {shown}{when}", printable(name));
    }
    text.push('\n');
}

/// A time as a date and as people say it: `2026-03-01T20:00:00Z, expired 4 minutes ago`.
fn date(name: &str, value: &Value, now: Timestamp) -> Option<String> {
    let words = match name {
        "exp" => ("expired", "expires"),
        "nbf" => ("valid since", "valid"),
        "iat" => ("issued", "issued"),
        "auth_time" => ("signed in", "signed in"),
        _ => return None,
    };
    let seconds = value.as_f64()?;
    let time = Timestamp::from_secs_f64(seconds);
    let span = spoken(time.distance(now));
    Some(if time <= now { format!("{time}, {} {span} ago", words.0) } else { format!("{time}, {} in {span}", words.1) })
}

fn held(text: &mut String, finding: &Finding) {
    let _ = writeln!(text, "  {} {:<24} {}", good("✓"), finding.check.subject(), faint(&finding.found));
}

fn failed(text: &mut String, finding: &Finding) {
    let _ = writeln!(text, "  {} {:<24} {}", bad("✗"), finding.check.subject(), bad(finding.check.code()));
    let _ = writeln!(text, "      expected {}", printable(&finding.expected));
    let _ = writeln!(text, "      found    {}", printable(&finding.found));
    let _ = writeln!(text, "      {}", faint(finding.check.section()));
}
