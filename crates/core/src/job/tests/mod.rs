//! The machine, executed by hand, by stories in virtual time, and held against an interpreter of
//! the tree.

mod asking;
mod bounds;
mod by_hand;
mod cases;
mod dry_run;
mod going_on;
mod interpreter;
mod later;
mod property;
mod story;
mod trial;
