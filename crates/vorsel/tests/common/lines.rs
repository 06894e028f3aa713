//! Collects what is logged on a thread.

use std::sync::{Arc, Mutex};

#[derive(Clone, Default)]
pub(crate) struct Lines(Arc<Mutex<Vec<u8>>>);

impl Lines {
    pub(crate) fn text(&self) -> String {
        String::from_utf8(self.0.lock().expect("no panic").clone()).expect("text")
    }
}

impl std::io::Write for Lines {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().expect("no panic").extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}
