//! What is logged has no secrets: lines are written through a writer that knows them.

use arc_swap::ArcSwap;
use arvok_connect::Redactor;
use std::{
    io::{self, Write},
    sync::{Arc, LazyLock},
};

/// The secrets that were opened last in this process.
static KNOWN: LazyLock<ArcSwap<Redactor>> = LazyLock::new(ArcSwap::default);

/// Lines of the log are hidden by these secrets from now on.
pub(crate) fn knows(redactor: &Redactor) {
    KNOWN.store(Arc::new(redactor.clone()));
}

/// Writes to standard error, without secrets. Whoever logs writes a line at a time.
#[derive(Clone, Copy, Debug, Default)]
pub struct LogWriter;

impl Write for LogWriter {
    fn write(&mut self, line: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(line);
        io::stderr().lock().write_all(KNOWN.load().hidden(&text).as_bytes())?;
        Ok(line.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        io::stderr().flush()
    }
}
