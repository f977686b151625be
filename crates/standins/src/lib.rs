//! Stand-ins for what cannot be on one machine: a yard of hypervisors with its monitor, a crew
//! chat, a desk that releases services in versions, a board that is sent events, a ticket desk that
//! describes itself, a register of kiosks, a pager, switches of features, a queue with workers, a
//! cloud, a mailroom, a network switch, and the public web site. Most can be given a watch that
//! posts what goes wrong there. A [`machine`] that is reached over SSH is a real one: the sshd of
//! this.
//!
//! Each is a server on loopback with state, tokens, latency and switchable faults, behaving like
//! the real thing at its own small JSON API, the mailroom at SMTP, the network switch at RESTCONF
//! and NETCONF. They know nothing of Arvok's inside; they can be run by themselves to play with.

mod auth;
pub mod board;
pub mod chat;
pub mod cloud;
pub mod desk;
pub mod device;
mod faults;
pub mod features;
mod harbour;
pub mod hypervisor;
pub mod kiosks;
pub mod machine;
pub mod mailroom;
mod office;
pub mod pager;
pub mod queue;
pub mod releases;
mod server;
pub mod site;
pub mod switch;
mod watch;
pub mod yard;

pub use faults::Faults;
pub use harbour::{Harbour, Pace, Secret};
pub use office::Running;
pub use server::{Server, StandinError};
pub use watch::{Sight, Watched};

#[cfg(test)]
mod tests;
