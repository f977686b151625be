//! The service: receives alerts, decides, runs jobs, answers questions, serves the console.
//!
//! [`config`] says how it is set up; [`node`] holds what its parts share; `door` admits deliveries
//! and [`intake`] commits them in groups; [`executor`] executes jobs through their steps, whose
//! [`calls`] go out; [`api`] is everything over HTTP. [`clock`] is the one place that reads the
//! time.

mod address;
mod admission;
mod answer_settings;
mod answers;
pub mod api;
mod calls;
pub mod clock;
pub mod config;
mod console;
mod data_folder;
pub mod doctor;
mod executor;
mod explanation;
mod heartbeats;
mod intake;
mod key;
mod listeners;
mod lmtp;
mod log;
mod metrics;
mod node;
pub mod offline;
mod outbox;
mod own_alarms;
mod plan_runs;
mod problem;
mod profiling;
mod random;
mod readiness;
mod restore;
mod retry;
mod script_settings;
mod secrets;
mod self_monitoring;
mod serve;
mod setting_list;
mod settings;
mod source_limits;
mod source_shapes;
mod subscribers;
mod supervise;
#[cfg(test)]
mod tests;
mod timers;
mod tls;
mod write_back;

pub use config::{Config, ConfigError};
pub use log::LogWriter;
pub use random::secret_text;
pub use serve::{Running, ServeError, start};
pub use setting_list::{SETTINGS, SettingDescription, variables};
pub use settings::{Setting, Settings};
