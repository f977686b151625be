//! The whole product, driven as its users drive it: through the command, the HTTP API and the
//! console in a browser, against a real PostgreSQL. One module for each kind of journey.

mod api;
mod bounds;
mod chaos;
mod claims;
mod command;
mod connections;
mod console;
mod console_cases;
mod days;
mod doors;
mod house;
mod job_cases;
mod kit;
mod library;
mod listen_cases;
mod lists;
mod nodes;
mod outside;
mod people;
mod poison;
mod private;
mod process;
mod readme;
mod reference;
mod remedies;
mod restore;
mod retention;
mod rules;
mod settle_cases;
mod settle_live;
mod settling;
mod story;
mod subscribers;
mod survival;
mod trust;
