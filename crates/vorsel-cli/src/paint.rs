//! Colours for terminals, and text from strangers made harmless.

use std::fmt::Display;

use anstyle::{AnsiColor, Style};

fn painted(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

/// What held or went through.
pub(crate) fn good(text: impl Display) -> String {
    painted(AnsiColor::Green.on_default(), text)
}

/// What did not hold or was refused.
pub(crate) fn bad(text: impl Display) -> String {
    painted(AnsiColor::Red.on_default().bold(), text)
}

/// A heading.
pub(crate) fn heading(text: impl Display) -> String {
    painted(Style::new().bold(), text)
}

/// What may be overlooked.
pub(crate) fn faint(text: impl Display) -> String {
    painted(Style::new().dimmed(), text)
}

/// The text with every control, bidirectional and other invisible character escaped, so that a token cannot write to
/// the terminal.
pub(crate) fn printable(text: &str) -> String {
    let mut printable = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '"' | '\'' | '\\' | '\n' => printable.push(character),
            other => printable.extend(other.escape_debug()),
        }
    }
    printable
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_terminal_is_not_written_to() {
        assert_eq!(super::printable("a\u{1b}[2J\u{202e}\u{9b}\"\\é"), "a\\u{1b}[2J\\u{202e}\\u{9b}\"\\é");
    }
}
