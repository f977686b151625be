//! The tables of which single rows are read and written, one file for each.

pub mod alarm;
pub mod alert_day;
pub mod attempt;
pub mod call;
pub mod catalog;
pub mod definition;
pub mod job;
pub mod node;
pub mod proposal;
pub mod secret;
pub mod session;
pub mod tally;
pub mod token;
pub mod unreadable;
