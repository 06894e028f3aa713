//! An object that is written member by member.

use serde::Serialize;
use serde_json::Error;

/// Writes an object onto bytes, its members in the order in which they are said. Their names are the caller's own and need no
/// escape.
pub(crate) struct Members<'b>(&'b mut Vec<u8>);

impl<'b> Members<'b> {
    /// Its first member, a text.
    pub(crate) fn begin(bytes: &'b mut Vec<u8>, name: &str, text: &str) -> Self {
        write_name(bytes, b'{', name);
        write_text(bytes, text);
        Self(bytes)
    }

    /// A text, if there is one.
    pub(crate) fn text<'t>(&mut self, name: &str, text: impl Into<Option<&'t str>>) {
        if let Some(text) = text.into() {
            self.name(name);
            write_text(self.0, text);
        }
    }

    pub(crate) fn texts(&mut self, name: &str, texts: &[String]) {
        self.name(name);
        self.0.push(b'[');
        for (place, text) in texts.iter().enumerate() {
            if place > 0 {
                self.0.push(b',');
            }
            write_text(self.0, text);
        }
        self.0.push(b']');
    }

    /// A number, if there is one.
    pub(crate) fn number(&mut self, name: &str, number: impl Into<Option<i64>>) {
        if let Some(number) = number.into() {
            self.name(name);
            // Onto bytes, numbers and texts can always be written.
            let _ = serde_json::to_writer(&mut *self.0, &number);
        }
    }

    /// An object with one member, a text.
    pub(crate) fn object(&mut self, name: &str, inner: &str, text: &str) {
        self.name(name);
        Members::begin(self.0, inner, text).end();
    }

    pub(crate) fn end(self) {
        self.0.push(b'}');
    }

    /// The last members: those of an object.
    ///
    /// # Errors
    /// If it cannot be written, or is no object.
    pub(crate) fn end_with(self, others: &impl Serialize) -> Result<(), Error> {
        let Self(bytes) = self;
        let start = bytes.len();
        serde_json::to_writer(&mut *bytes, others)?;
        match &bytes[start..] {
            b"{}" => {
                bytes.remove(start);
                Ok(())
            }
            [b'{', ..] => {
                bytes[start] = b',';
                Ok(())
            }
            _ => Err(serde::ser::Error::custom("no object")),
        }
    }

    fn name(&mut self, name: &str) {
        write_name(self.0, b',', name);
    }
}

fn write_name(bytes: &mut Vec<u8>, before: u8, name: &str) {
    bytes.extend_from_slice(&[before, b'"']);
    bytes.extend_from_slice(name.as_bytes());
    bytes.extend_from_slice(b"\":");
}

/// Whether a byte has to be escaped ([RFC 8259 section 7](https://www.rfc-editor.org/rfc/rfc8259#section-7)).
static IS_ESCAPED: [bool; 256] = {
    let mut table = [false; 256];
    let mut byte = 0;
    while byte < 0x20 {
        table[byte] = true;
        byte += 1;
    }
    table[b'"' as usize] = true;
    table[b'\\' as usize] = true;
    table
};

/// Hardly any text has a character that has to be escaped, and to ask of all at once is quicker than to look at each.
fn write_text(bytes: &mut Vec<u8>, text: &str) {
    if text.bytes().fold(false, |found, byte| found | IS_ESCAPED[usize::from(byte)]) {
        let _ = serde_json::to_writer(bytes, text);
    } else {
        bytes.push(b'"');
        bytes.extend_from_slice(text.as_bytes());
        bytes.push(b'"');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_character_is_written_as_serde_writes_it_alone_and_among_others() {
        for character in '\0'..='\u{2030}' {
            for text in [character.to_string(), format!("dome{character}"), format!("{character}dome{character}move")] {
                let mut bytes = Vec::new();
                write_text(&mut bytes, &text);
                assert_eq!(bytes, serde_json::to_vec(&text).expect("JSON"), "{character:?}");
            }
        }
    }
}
