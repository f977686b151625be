//! Guards: whether jobs may begin, which of them are held, and when they are let back.
//!
//! What a guard knows is read under a lock of its own, which is kept until the jobs that it admits
//! have begun: so over all nodes there is never one too many, whoever dies. The guards that let a
//! job begin stand on its row, by which it is counted while it is under way; what outlives it,
//! since guards look back at what began and what failed, has rows of `guard_use`. How jobs are
//! counted follows from the guard and its group: where others than these versions have counted, all
//! is counted anew. What is held is set aside, and let back as soon as there is room
//! ([`let_back_held`]), in the order of the queue.

mod circuits;
mod counting;
mod holding;
mod judging;

pub use circuits::{circuits, look_at, resume};
pub use counting::known;
pub(crate) use counting::{forget, sweep};
pub use holding::{HeldJobs, LetBack, free, let_back_held, overrule};
pub use judging::concerned;
pub(super) use judging::{AdmittedBy, Judged, judge};
