//! What is to be done on a machine, with everything filled in.

/// What is to be done on a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RemoteAct {
    /// A command is run.
    Run(RemoteCommand),
    /// A file is written: under another name first, so that nobody sees a part of it.
    Upload {
        /// Its path.
        path: String,
        /// What it shall hold.
        content: Vec<u8>,
        /// Its permission bits; none: as the machine gives them.
        mode: Option<u32>,
    },
    /// A file is read.
    Download {
        /// Its path.
        path: String,
        /// So many bytes at most.
        at_most: u32,
    },
}

/// A command with everything filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RemoteCommand {
    /// The line, quoted for a POSIX shell.
    pub line: String,
    /// What it reads from its standard input.
    pub input: String,
    /// So many bytes of its standard output are kept.
    pub at_most: u32,
}
