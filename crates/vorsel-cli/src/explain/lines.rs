//! Lines of any bytes and any length, without holding more of one than a token can have.

use std::io::{self, BufRead};

/// Bytes of a line that are kept: more than any token has, so that a longer line is seen to be too long.
pub(super) const LONGEST: usize = 64 * 1024;

/// Reads the next line into `line`, without its newline; what is beyond [`LONGEST`] bytes is skipped. Says whether
/// there was a line.
pub(super) fn next(input: &mut impl BufRead, line: &mut Vec<u8>) -> io::Result<bool> {
    line.clear();
    let mut any = false;
    loop {
        let buffer = input.fill_buf()?;
        if buffer.is_empty() {
            return Ok(any);
        }
        any = true;
        let newline = buffer.iter().position(|byte| *byte == b'\n');
        let content = &buffer[..newline.unwrap_or(buffer.len())];
        let room = LONGEST - line.len();
        line.extend_from_slice(&content[..content.len().min(room)]);
        let used = content.len() + usize::from(newline.is_some());
        input.consume(used);
        if newline.is_some() {
            return Ok(true);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::BufReader;

    #[test]
    fn lines_are_read_byte_for_byte() {
        let long = vec![b'x'; LONGEST + 100];
        let mut text = b"a\n\n b \r\n\xff\n".to_vec();
        text.extend_from_slice(&long);
        text.extend_from_slice(b"\nlast");
        for capacity in [1, 7, 8192] {
            let mut input = BufReader::with_capacity(capacity, &text[..]);
            let (mut lines, mut line) = (Vec::new(), Vec::new());
            while next(&mut input, &mut line).expect("reading a slice") {
                lines.push(line.clone());
            }
            assert_eq!(
                lines,
                [b"a".to_vec(), vec![], b" b \r".to_vec(), vec![0xff], long[..LONGEST].to_vec(), b"last".to_vec()]
            );
        }
    }
}
