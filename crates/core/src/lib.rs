//! Everything in Arvok that can be computed: no I/O, no clock, no async.
//!
//! The folders follow what happens to an alert: it is [`read`] from a payload into an
//! [`alert`], the [`matcher`] finds the rules that concern it, [`settle`] decides with the
//! memory of each rule, and [`job`] walks the steps of a [`runbook`] that call a [`connector`].
//! [`document`] turns YAML into typed definitions with exact places for every complaint,
//! [`expr`] evaluates expressions within a budget, [`catalog`] holds the published set together.
//!
//! Time, randomness and identifiers are always arguments.

pub mod alarm;
pub mod alert;
pub mod catalog;
pub mod connector;
pub mod document;
pub mod expr;
pub mod inputs;
pub mod job;
pub mod matcher;
pub mod period;
pub mod read;
pub mod rule;
pub mod runbook;
pub mod settle;

pub use alert::{Alert, AlertState, NewAlert, ResourcePath, Severity};
pub use catalog::{Catalog, Definition, Kind};
pub use document::Problem;
pub use period::Period;
