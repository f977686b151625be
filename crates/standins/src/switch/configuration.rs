//! What a switch keeps: the ports as they are, and the configuration that is to be, with a change
//! that is taken back unless somebody confirms it (RFC 6241, section 8.4).

use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

/// A port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Port {
    /// What hangs on it.
    pub description: String,
    /// Whether it is meant to be up: `enabled`.
    pub enabled: bool,
    /// Whether somebody is told when it is down.
    pub is_needed: bool,
    /// Whether its cable is in.
    pub cable: bool,
    /// Whether it was shut down for errors.
    pub shut_for_errors: bool,
    /// What is at the other end: a name of a system, and its port.
    pub neighbour: Option<(String, String)>,
    /// Octets in and out, and errors in.
    pub counters: [u64; 3],
}

impl Port {
    /// Whether it works.
    pub fn is_up(&self) -> bool {
        self.enabled && self.cable && !self.shut_for_errors
    }
}

/// The part of a port that is configured.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Configured {
    pub description: String,
    pub enabled: bool,
}

/// The configuration of all ports, by name.
pub(super) type Configuration = BTreeMap<String, Configured>;

/// A change that waits to be confirmed.
#[derive(Clone, Debug)]
struct Unconfirmed {
    before: Configuration,
    until: Instant,
    persist_id: Option<String>,
    session: u32,
}

/// A switch.
#[derive(Debug)]
pub struct Switch {
    /// What it is called.
    pub name: String,
    /// Its ports by name.
    pub ports: BTreeMap<String, Port>,
    /// The configuration that is prepared.
    pub(super) candidate: Configuration,
    /// The sessions that have locks: of the running configuration, and of the candidate.
    pub(super) locks: [Option<u32>; 2],
    /// How many sessions over NETCONF are open.
    pub sessions: usize,
    unconfirmed: Option<Unconfirmed>,
}

impl Switch {
    /// That of pier 3 at Brack.
    pub(super) fn of_pier_3() -> Self {
        let port = |description: &str, neighbour: Option<(&str, &str)>| Port {
            description: description.to_owned(),
            enabled: true,
            is_needed: neighbour.is_some(),
            cable: neighbour.is_some(),
            shut_for_errors: false,
            neighbour: neighbour.map(|(name, port)| (name.to_owned(), port.to_owned())),
            counters: [0; 3],
        };
        let ports = [
            ("ge-0/0/1", port("uplink to the yard", Some(("yard-core-1", "xe-0/0/4")))),
            ("ge-0/0/6", port("a camera", Some(("brack-camera-2", "eth0")))),
            ("ge-0/0/7", port("kiosks of pier 3", Some(("brack-kiosks-3", "ge-0/0/0")))),
            ("ge-0/0/8", port("nothing", None)),
        ];
        let ports: BTreeMap<_, _> = ports.map(|(name, port)| (name.to_owned(), port)).into();
        let mut switch = Self {
            name: "brack-switch-3".to_owned(),
            ports,
            candidate: Configuration::new(),
            locks: [None; 2],
            sessions: 0,
            unconfirmed: None,
        };
        switch.candidate = switch.running();
        switch
    }

    /// The configuration that it works with.
    pub(super) fn running(&self) -> Configuration {
        let configured = |port: &Port| Configured {
            description: port.description.clone(),
            enabled: port.enabled,
        };
        self.ports.iter().map(|(name, port)| (name.clone(), configured(port))).collect()
    }

    /// Works with another configuration.
    pub(super) fn apply(&mut self, configuration: &Configuration) {
        for (name, port) in &mut self.ports {
            let Some(configured) = configuration.get(name) else { continue };
            // Whoever is disabled and enabled again begins anew.
            if !configured.enabled {
                port.shut_for_errors = false;
            }
            port.enabled = configured.enabled;
            port.description.clone_from(&configured.description);
        }
    }

    /// Takes back what nobody has confirmed in time, and lets traffic flow.
    pub fn settle(&mut self) {
        if self.unconfirmed.as_ref().is_some_and(|waits| waits.until <= Instant::now()) {
            self.take_back();
        }
        for port in self.ports.values_mut().filter(|port| port.is_up()) {
            port.counters[0] += 1500;
            port.counters[1] += 900;
        }
    }

    /// The candidate takes effect: for good, or until it is taken back.
    pub(super) fn commit(
        &mut self,
        confirm_within: Option<Duration>,
        persist: Option<String>,
        session: u32,
    ) {
        let before = match self.unconfirmed.take() {
            Some(waits) => waits.before,
            None => self.running(),
        };
        let candidate = self.candidate.clone();
        self.apply(&candidate);
        self.unconfirmed = confirm_within.map(|within| Unconfirmed {
            before,
            until: Instant::now() + within,
            persist_id: persist,
            session,
        });
    }

    /// Whether a change waits to be confirmed, and whether this is who may: by its id, or the
    /// session itself.
    pub(super) fn waits_for(&self, persist_id: Option<&str>, session: u32) -> Option<bool> {
        let waits = self.unconfirmed.as_ref()?;
        Some(match &waits.persist_id {
            Some(id) => persist_id == Some(id),
            None => persist_id.is_none() && waits.session == session,
        })
    }

    /// What waits to be confirmed is undone.
    pub(super) fn take_back(&mut self) {
        if let Some(waits) = self.unconfirmed.take() {
            self.apply(&waits.before);
            self.candidate = self.running();
        }
    }

    /// As if so much time had passed for what waits to be confirmed.
    pub fn pass(&mut self, time: Duration) {
        if let Some(waits) = &mut self.unconfirmed {
            waits.until = waits.until.checked_sub(time).unwrap_or(waits.until);
        }
        self.settle();
    }

    /// A session has ended: its locks go, and what it alone could have confirmed is undone.
    pub(super) fn session_ended(&mut self, session: u32) {
        self.sessions -= 1;
        for lock in &mut self.locks {
            lock.take_if(|holder| *holder == session);
        }
        let is_its_own =
            |waits: &Unconfirmed| waits.persist_id.is_none() && waits.session == session;
        if self.unconfirmed.as_ref().is_some_and(is_its_own) {
            self.take_back();
        }
    }
}
