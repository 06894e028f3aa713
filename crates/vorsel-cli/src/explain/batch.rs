//! Many tokens, one a line.

use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};

use vorsel::{Findings, Object};

use super::desk::Desk;
use super::{lines, record};
use crate::paint;

/// Writes one line for each line of `input`; says whether every token was accepted. A reader who goes away ends it.
pub(super) fn run(desk: &Desk, json: bool, input: impl Read, output: impl Write) -> io::Result<bool> {
    let mut input = BufReader::new(input);
    let mut output = BufWriter::new(output);
    match write_all(desk, json, &mut input, &mut output) {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(false),
        other => other,
    }
}

fn write_all(desk: &Desk, json: bool, input: &mut impl BufRead, output: &mut impl Write) -> io::Result<bool> {
    let (mut line, mut number, mut every) = (Vec::new(), 0_u64, true);
    while lines::next(input, &mut line)? {
        number += 1;
        let findings = desk.verifier.examine::<Object>(&line, desk.now);
        every &= findings.accepted().is_some();
        if json {
            writeln!(output, "{}", record::line(number, &findings))?;
        } else {
            writeln!(output, "{}", plain_line(number, &findings))?;
        }
    }
    output.flush()?;
    Ok(every)
}

fn plain_line(number: u64, findings: &Findings<Object>) -> String {
    let refused: Vec<_> = findings.refused_for().map(ToString::to_string).collect();
    if refused.is_empty() {
        let subject = findings.accepted().and_then(|checked| checked.claims().subject()).unwrap_or("no subject");
        format!("{number}: accepted, {}", paint::printable(subject))
    } else {
        format!("{number}: refused, {}", refused.join("; "))
    }
}
