//! What a command or a script writes while it runs, for whoever wants to see it.

use std::fmt;

/// Is shown everything that is written, as soon as it comes.
#[derive(Clone, Copy)]
pub struct LiveOutput<'a>(pub &'a (dyn Fn(&[u8]) + Sync));

impl LiveOutput<'_> {
    /// Nobody looks.
    pub const NOBODY: LiveOutput<'static> = LiveOutput(&|_| {});
}

impl fmt::Debug for LiveOutput<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("LiveOutput")
    }
}
