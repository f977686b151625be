//! What is made up to see what would follow: an alert that somebody sent to try a rule, and all
//! that comes of it. What a trial is kept apart from stands where each of these is: its tallies
//! beside [`crate::rule`], what its jobs leave undone in [`crate::job`].

crate::words! {
    /// How far a trial may go.
    pub enum Trial("kind of trial") {
        /// Its jobs look, and send nothing that changes anything.
        Dry = "dry",
        /// Its jobs act as those of any alert.
        Acting = "acting",
    }
}
