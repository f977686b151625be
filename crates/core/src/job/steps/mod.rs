//! How each kind of step begins and goes on. A step that is open comes to `go_on` at every event;
//! what it gives back is how it ended, or nothing while it is still open.

pub(super) mod ask;
pub(super) mod awaiting;
pub(super) mod call;
pub(super) mod check;
pub(super) mod child;
pub(super) mod choose;
pub(super) mod each;
pub(super) mod emit;
pub(super) mod finish;
pub(super) mod pause;
mod reach;
pub(super) mod remember;
pub(super) mod require;
pub(super) mod set;
pub(super) mod tell;
pub(super) mod together;
