//! A switch of a pier: its ports as RFC 8343 has them, its neighbours as IEEE 802.1AB says, over
//! RESTCONF (RFC 8040), and over NETCONF behind an sshd ([`over_ssh`]). Both change one
//! configuration. A port is up while it is enabled, its cable is in, and it was not shut down for
//! errors; one that was shut down comes back when it is disabled and enabled again.

mod configuration;
mod netconf;
mod restconf;

pub use configuration::{Port, Switch};
pub use netconf::{SwitchOverSsh, over_ssh};

use crate::{
    Sight, StandinError, Watched,
    office::{Office, Running},
};
use actix_web::web;
use serde_json::json;
use std::time::Duration;

impl Watched for Switch {
    fn sights(&mut self) -> Vec<Sight> {
        self.settle();
        let name = &self.name;
        let sight = |(port, state): (&String, &Port)| Sight {
            check: "port.state",
            about: format!("port/{name}/{port}"),
            wrong: state.is_needed && !state.is_up(),
            text: match state.is_up() {
                true => format!("{port} of {name} is up"),
                false => format!("{port} of {name} is down, and {} with it", state.description),
            },
            more: json!({ "description": state.description }),
        };
        self.ports.iter().map(sight).collect()
    }
}

/// How often it looks at its own times.
const TICK: Duration = Duration::from_millis(100);

/// A switch at work.
pub type RunningSwitch = Running<Switch>;

/// Starts the switch of pier 3, over RESTCONF.
pub fn start(port: u16, token: String) -> Result<RunningSwitch, StandinError> {
    let switch = Office::new(Switch::of_pier_3(), token).open(port, |config| {
        config
            .route("/about", web::get().to(restconf::about))
            .route("/restconf/data/{path:.+}", web::get().to(restconf::look))
            .route("/restconf/data/{path:.+}", web::patch().to(restconf::change));
    })?;
    let office = switch.office();
    Ok(switch.beside(tokio::spawn(async move {
        let mut tick = tokio::time::interval(TICK);
        loop {
            tick.tick().await;
            office.with(Switch::settle);
        }
    })))
}
