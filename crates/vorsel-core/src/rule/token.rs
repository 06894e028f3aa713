//! The words and signs of the rule language, each with the bytes it covers.

use std::ops::Range;

use super::error::RuleError;

#[derive(Clone, Debug, PartialEq)]
pub(super) enum Token<'a> {
    Word(&'a str),
    Text(String),
    Sign(&'static str),
    End,
}

/// Longer signs first, so that `<=` is not read as `<`.
const SIGNS: [&str; 11] = ["==", "!=", "<=", ">=", "<", ">", "(", ")", "[", "]", ","];

/// Whether `name` can stand for a role or a policy: letters, digits, `-`, `_`, beginning with a letter.
pub(crate) fn is_name(name: &str) -> bool {
    name.starts_with(|first: char| first.is_ascii_alphabetic())
        && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte))
}

/// Whether a member can stand behind `claims.` without quotes.
pub(super) fn is_plain_member(name: &str) -> bool {
    !name.is_empty() && !name.contains(|c: char| c.is_whitespace() || c.is_control() || "\"()[],<>=!.".contains(c))
}

pub(super) fn tokens(text: &str) -> Result<Vec<(Token<'_>, Range<usize>)>, RuleError> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(first) = text[at..].chars().next() {
        let rest = &text[at..];
        if matches!(first, '\n' | '\r') {
            return Err(RuleError::new(at..at + 1, "a rule in one line", "a line break"));
        }
        if first == ' ' || first == '\t' {
            at += 1;
            continue;
        }
        let (token, length) = if first == '"' {
            quoted_text(rest).map_err(|found| RuleError::new(at..text.len(), "a string in double quotes", found))?
        } else if let Some(sign) = SIGNS.into_iter().find(|sign| rest.starts_with(sign)) {
            (Token::Sign(sign), sign.len())
        } else {
            let length = rest.find(|c: char| c.is_whitespace() || "\"()[],<>=!".contains(c)).unwrap_or(rest.len());
            if length == 0 {
                let span = at..at + first.len_utf8();
                // As other languages write it.
                let meant = [("=>", ">="), ("=<", "<="), ("=", "=="), ("!", "not")];
                let meant = meant.into_iter().find(|(sign, _)| rest.starts_with(sign));
                let found = match meant {
                    Some((sign, meant)) => format!("{sign:?}; did you mean {meant:?}?"),
                    None => format!("{first:?}"),
                };
                return Err(RuleError::new(span, "a word, a value or a comparison", found));
            }
            (Token::Word(&rest[..length]), length)
        };
        tokens.push((token, at..at + length));
        at += length;
    }
    tokens.push((Token::End, text.len()..text.len()));
    Ok(tokens)
}

/// A string literal, written as in JSON.
fn quoted_text(rest: &str) -> Result<(Token<'static>, usize), String> {
    let mut strings = serde_json::Deserializer::from_str(rest).into_iter::<String>();
    match strings.next() {
        Some(Ok(text)) => Ok((Token::Text(text), strings.byte_offset())),
        _ => Err("one that does not end, or a wrong escape".to_owned()),
    }
}
