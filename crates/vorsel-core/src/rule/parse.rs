//! The rule parser: recursive descent with a bounded depth and a span for every mistake.
//!
//! ```text
//! rule    = all { "or" all }
//! all     = one { "and" one }
//! one     = "not" one | "(" rule ")" | atom
//! atom    = "signed-in" [ "within" duration ] | "role" name | "scope" value | "policy" name | "predicate" name
//!         | "client" value | "issuer" value | "credential" ( "bearer" | "cookie" | "api-key" | "ticket" )
//!         | operand ( "==" | "!=" | "<" | "<=" | ">" | ">=" ) operand
//!         | operand "in" "[" literal { "," literal } "]"
//!         | operand "contains" literal
//! operand = "sub" | "acr" | "claims." member { "." member } | "path." name | literal
//! member  = name, or a string for one that has signs in it
//! literal = string | number | "true" | "false"
//! duration = whole number directly followed by "s", "m", "h" or "d"
//! ```

use std::ops::Range;
use std::str::FromStr;
use std::time::Duration;

use serde_json::Value;

use super::error::RuleError;
use super::token::{Token, is_name, tokens};
use super::tree::{Comparison, Operand, Rule};
use crate::credential::Credential;
use crate::encoding::json::{is_number, number};
use crate::finding::quoted;
use crate::time::{Lifetime, of_unit};
use crate::token::is_scope;

/// Parentheses and `not` may be nested this deep: far more than a person reads, far less than a stack holds.
const DEEPEST: usize = 50;
const ATOM: &str = "signed-in, role, scope, client, issuer, policy, predicate, credential, not, a parenthesis or a comparison of sub, acr, claims.… or path.…";

impl Rule {
    /// Reads a rule written in one line.
    ///
    /// # Errors
    /// If the text is not a rule; the error has the bytes that are wrong and what would be right there.
    pub fn parse(text: &str) -> Result<Self, RuleError> {
        let mut parser = Parser { tokens: tokens(text)?, at: 0, depth: 0 };
        let rule = parser.any()?;
        match parser.peek() {
            Token::End => Ok(rule),
            _ => Err(parser.unexpected("\"and\", \"or\" or the end of the rule")),
        }
    }
}

impl FromStr for Rule {
    type Err = RuleError;

    fn from_str(text: &str) -> Result<Self, RuleError> {
        Self::parse(text)
    }
}

impl TryFrom<&str> for Rule {
    type Error = RuleError;

    fn try_from(text: &str) -> Result<Self, RuleError> {
        Self::parse(text)
    }
}

struct Parser<'a> {
    tokens: Vec<(Token<'a>, Range<usize>)>,
    at: usize,
    depth: usize,
}

impl<'a> Parser<'a> {
    fn any(&mut self) -> Result<Rule, RuleError> {
        self.list_of("or", Rule::Any, Self::all)
    }

    fn all(&mut self) -> Result<Rule, RuleError> {
        self.list_of("and", Rule::All, Self::one)
    }

    /// One rule, or several with `word` between them. A list in parentheses stays a rule of its own.
    fn list_of(
        &mut self,
        word: &str,
        list: fn(Vec<Rule>) -> Rule,
        read: fn(&mut Self) -> Result<Rule, RuleError>,
    ) -> Result<Rule, RuleError> {
        let first = read(self)?;
        if !matches!(self.peek(), Token::Word(found) if *found == word) {
            return Ok(first);
        }
        let mut rules = vec![first];
        while self.take_word(word) {
            rules.push(read(self)?);
        }
        Ok(list(rules))
    }

    fn one(&mut self) -> Result<Rule, RuleError> {
        if self.take_word("not") {
            return self.deeper(|parser| Ok(!parser.one()?));
        }
        if self.take_sign("(") {
            return self.deeper(|parser| {
                let rule = parser.any()?;
                parser.expect_sign(")")?;
                Ok(rule)
            });
        }
        self.atom()
    }

    fn deeper(&mut self, read: impl FnOnce(&mut Self) -> Result<Rule, RuleError>) -> Result<Rule, RuleError> {
        if self.depth == DEEPEST {
            return Err(self.unexpected(&format!("at most {DEEPEST} parentheses and nots inside each other")));
        }
        self.depth += 1;
        let rule = read(self);
        self.depth -= 1;
        rule
    }

    fn atom(&mut self) -> Result<Rule, RuleError> {
        let Token::Word(word) = *self.peek() else { return self.comparison() };
        match word {
            "signed-in" => {
                self.at += 1;
                if self.take_word("within") { self.duration().map(Rule::SignedInWithin) } else { Ok(Rule::SignedIn) }
            }
            "role" => self.named("the name of a role", is_name).map(Rule::Role),
            "policy" => self.named("the name of a policy", is_name).map(Rule::Policy),
            "predicate" => self.named("the name of a predicate", is_name).map(Rule::Predicate),
            "client" => self.named("a client ID", is_visible).map(Rule::Client),
            "issuer" => self.named("an issuer", is_visible).map(Rule::Issuer),
            "credential" => self.credential().map(Rule::Credential),
            "scope" => self.named("a scope", is_scope).map(Rule::Scope),
            _ => self.comparison(),
        }
    }

    fn credential(&mut self) -> Result<Credential, RuleError> {
        self.at += 1;
        let kind = match self.peek() {
            Token::Word(word) => Credential::named(word),
            _ => None,
        };
        let kind = kind.ok_or_else(|| self.unexpected("a kind of credential: bearer, cookie, api-key or ticket"))?;
        self.at += 1;
        Ok(kind)
    }

    fn duration(&mut self) -> Result<Duration, RuleError> {
        let span = match self.peek() {
            Token::Word(word) => duration_of(word),
            _ => None,
        };
        let span = span.ok_or_else(|| self.unexpected("a duration from 1s to 3660d, such as 90s, 10m, 2h or 1d"))?;
        self.at += 1;
        Ok(span)
    }

    fn named(&mut self, expected: &str, fits: fn(&str) -> bool) -> Result<String, RuleError> {
        self.at += 1;
        let name = match self.peek() {
            Token::Word(word) if fits(word) && !is_reserved(word) => (*word).to_owned(),
            Token::Text(text) if fits(text) => text.clone(),
            _ => return Err(self.unexpected(expected)),
        };
        self.at += 1;
        Ok(name)
    }

    fn comparison(&mut self) -> Result<Rule, RuleError> {
        let left = self.operand(ATOM)?;
        if self.take_word("in") {
            return Ok(Rule::In(left, self.list()?));
        }
        if self.take_word("contains") {
            return Ok(Rule::Contains(left, self.literal("a string, a number, true or false")?));
        }
        let comparison = match self.peek() {
            Token::Sign("==") => Comparison::Equal,
            Token::Sign("!=") => Comparison::Unequal,
            Token::Sign("<") => Comparison::Less,
            Token::Sign("<=") => Comparison::AtMost,
            Token::Sign(">") => Comparison::Greater,
            Token::Sign(">=") => Comparison::AtLeast,
            _ => return Err(self.unexpected("a comparison: ==, !=, <, <=, >, >=, in or contains")),
        };
        self.at += 1;
        let right = self.operand("a value to compare with")?;
        Ok(Rule::Compare(left, comparison, right))
    }

    fn operand(&mut self, expected: &str) -> Result<Operand, RuleError> {
        let Token::Word(word) = *self.peek() else { return self.literal(expected).map(Operand::Literal) };
        let operand = if word == "sub" {
            Operand::Subject
        } else if word == "acr" {
            Operand::Acr
        } else if let Some(names) = word.strip_prefix("claims.") {
            return self.claim(names);
        } else if let Some(name) = word.strip_prefix("path.") {
            if name.is_empty() {
                return Err(self.unexpected("the name of a path parameter after \"path.\""));
            }
            Operand::Path(name.to_owned())
        } else {
            return self.literal(expected).map(Operand::Literal);
        };
        self.at += 1;
        Ok(operand)
    }

    /// The names after `claims.`: `training`, `hill.roles`, `"https://lab.skarnhill.test/roles"`.
    fn claim(&mut self, mut part: &'a str) -> Result<Operand, RuleError> {
        const EXPECTED: &str = "the name of a claim after \"claims.\"";
        let mut names = Vec::new();
        loop {
            let plain = part.strip_suffix('.').unwrap_or(part);
            let before_quotes = part.is_empty() || plain.len() < part.len();
            if !plain.is_empty() || !before_quotes {
                names.extend(plain.split('.').map(str::to_owned));
            }
            if names.iter().any(String::is_empty) {
                return Err(self.unexpected(EXPECTED));
            }
            if !before_quotes {
                break;
            }
            // What is quoted follows without a space.
            match self.next_at_once() {
                Some(Token::Text(text)) if !text.is_empty() => names.push(text.clone()),
                _ => return Err(self.unexpected(EXPECTED)),
            }
            self.at += 1;
            match self.next_at_once() {
                Some(Token::Word(word)) if word.starts_with('.') => part = &word[1..],
                _ => break,
            }
            self.at += 1;
        }
        self.at += 1;
        Ok(Operand::Claim(names))
    }

    /// The next token, if nothing stands between.
    fn next_at_once(&self) -> Option<&Token<'a>> {
        let (_, here) = &self.tokens[self.at];
        self.tokens.get(self.at + 1).filter(|(_, next)| next.start == here.end).map(|(token, _)| token)
    }

    fn list(&mut self) -> Result<Vec<Value>, RuleError> {
        self.expect_sign("[")?;
        let mut values = vec![self.literal("a string, a number, true or false")?];
        while self.take_sign(",") {
            values.push(self.literal("a string, a number, true or false")?);
        }
        self.expect_sign("]")?;
        Ok(values)
    }

    fn literal(&mut self, expected: &str) -> Result<Value, RuleError> {
        let value = match self.peek() {
            Token::Text(text) => Some(Value::String(text.clone())),
            Token::Word("true") => Some(Value::Bool(true)),
            Token::Word("false") => Some(Value::Bool(false)),
            Token::Word(word) if is_number(word) => {
                let number = number(word).filter(|number| !number.is_f64() || word.contains(['.', 'e', 'E']));
                // What a token says beyond 64 bits is known only nearly, so it is equal to nothing.
                Some(Value::Number(number.ok_or_else(|| self.unexpected("a whole number of at most 64 bits"))?))
            }
            _ => None,
        };
        let value = value.ok_or_else(|| self.unexpected(expected))?;
        self.at += 1;
        Ok(value)
    }

    fn peek(&self) -> &Token<'a> {
        &self.tokens[self.at].0
    }

    fn take_word(&mut self, word: &str) -> bool {
        let here = matches!(self.peek(), Token::Word(found) if *found == word);
        self.at += usize::from(here);
        here
    }

    fn take_sign(&mut self, sign: &str) -> bool {
        let here = matches!(self.peek(), Token::Sign(found) if *found == sign);
        self.at += usize::from(here);
        here
    }

    fn expect_sign(&mut self, sign: &str) -> Result<(), RuleError> {
        if self.take_sign(sign) { Ok(()) } else { Err(self.unexpected(&format!("{sign:?}"))) }
    }

    fn unexpected(&self, expected: &str) -> RuleError {
        let (token, span) = &self.tokens[self.at];
        let found = match token {
            Token::Word(word) => quoted(word),
            Token::Text(text) => format!("the string {}", quoted(text)),
            Token::Sign(sign) => format!("{sign:?}"),
            Token::End => "the end of the rule".to_owned(),
        };
        RuleError::new(span.clone(), expected, found)
    }
}

fn duration_of(word: &str) -> Option<Duration> {
    of_unit(word).filter(|span| Lifetime::try_from(*span).is_ok())
}

/// Words with a meaning of their own cannot name a role or a scope unless they are in quotes.
fn is_reserved(word: &str) -> bool {
    const WORDS: &str = " and or not in contains signed-in within role scope client issuer policy predicate credential true \
        false acr ";
    WORDS.split(' ').any(|reserved| reserved == word)
}

/// Client IDs are visible ASCII ([RFC 6749 appendix A.1](https://www.rfc-editor.org/rfc/rfc6749#appendix-A.1)), issuers are
/// URLs as a rule; a name with other characters is not for a rule.
fn is_visible(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_graphic() || byte == b' ')
}
