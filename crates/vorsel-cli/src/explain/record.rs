//! Findings as JSON. The members here are a promise to scripts.

use serde_json::{Value, json};
use vorsel::{Check, Findings, Object, UncheckedToken};

/// One line of a batch: the line's number, whether it is accepted, the codes, and the findings that did not hold.
pub(super) fn line(number: u64, findings: &Findings<Object>) -> Value {
    json!({
        "line": number,
        "accepted": findings.accepted().is_some(),
        "refused_for": codes(findings),
        "findings": findings.refused_for().collect::<Vec<_>>(),
    })
}

/// One token with all its findings. Header and claims are what the token says, believed or not.
pub(super) fn whole(token: &[u8], findings: &Findings<Object>, not_checked: &[&str]) -> Value {
    let unchecked = UncheckedToken::read(token).ok();
    json!({
        "accepted": findings.accepted().is_some(),
        "refused_for": codes(findings),
        "header": unchecked.as_ref().map(UncheckedToken::header),
        "claims": unchecked.as_ref().and_then(UncheckedToken::claims),
        "findings": findings.iter().filter(|finding| finding.check != Check::OwnClaims).collect::<Vec<_>>(),
        "not_checked": not_checked,
    })
}

/// The codes, each once, in the order of the checks.
fn codes(findings: &Findings<Object>) -> Vec<&'static str> {
    let mut codes = Vec::new();
    for finding in findings.refused_for() {
        if !codes.contains(&finding.check.code()) {
            codes.push(finding.check.code());
        }
    }
    codes
}
