//! The records under fire, on a real PostgreSQL: what nodes do to each other's transactions, what a
//! death leaves, what is kept and for how long.

mod calls;
mod claims;
mod due;
mod guards;
mod halts;
mod intake;
mod kit;
mod leases;
mod memory;
mod mutes;
mod outside;
mod people;
mod plans;
mod published;
mod replay;
mod routines;
mod runners;
mod shapes;
mod subscribers;
mod timers;
mod touches;
mod trials;
mod upgrade;
mod upkeep;
mod words;
mod write_back;
