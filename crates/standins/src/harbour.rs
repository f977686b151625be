//! Everything that the Skerrow Ferries have, at work together around one node.

use crate::{
    Faults, StandinError,
    board::{self, BoardOptions, RunningBoard},
    chat::{self, RunningChat},
    cloud::{self, RunningCloud},
    desk::{self, DeskOptions, RunningDesk},
    features::{self, RunningFeatures},
    kiosks::{self, RunningKiosks},
    mailroom::{self, RunningMailroom},
    pager::{self, RunningPager},
    queue::{self, RunningQueue},
    releases::{self, ReleaseOptions, RunningReleases},
    site::{self, RunningSite},
    switch::{self, RunningSwitch},
    yard::{self, RunningYard, YardOptions},
};
use std::time::Duration;

/// How fast everything goes there.
#[derive(Clone, Copy, Debug)]
pub struct Pace {
    /// How often the yard moves on.
    pub tick: Duration,
    /// Seconds of the yard's own time for each tick.
    pub seconds_a_tick: f64,
    /// How long takes what takes time.
    pub takes: Duration,
}

/// A secret that the node must know: its name, its value, and the one place that it may go to.
pub type Secret = (&'static str, String, &'static str);

/// Secrets as they are made.
struct Secrets<'t> {
    made: Vec<Secret>,
    token: &'t dyn Fn(&str) -> String,
}

impl Secrets<'_> {
    /// A new one, of which the node must know.
    fn secret(&mut self, name: &'static str, what: &str, place: &'static str) -> String {
        let value = (self.token)(what);
        self.made.push((name, value.clone(), place));
        value
    }
}

/// All stand-ins.
#[derive(Debug)]
pub struct Harbour {
    /// The hypervisor cluster with its monitor.
    pub yard: RunningYard,
    /// The crew chat.
    pub chat: RunningChat,
    /// The desk that releases services.
    pub releases: RunningReleases,
    /// The harbour board.
    pub board: RunningBoard,
    /// The ticket desk.
    pub desk: RunningDesk,
    /// The register of the kiosks.
    pub kiosks: RunningKiosks,
    /// The pager.
    pub pager: RunningPager,
    /// The switches of features.
    pub features: RunningFeatures,
    /// The queue of ticket mails.
    pub queue: RunningQueue,
    /// The cloud.
    pub cloud: RunningCloud,
    /// The mail server of the offices.
    pub mailroom: RunningMailroom,
    /// The public web site.
    pub site: RunningSite,
    /// The switch of pier 3.
    pub switch: RunningSwitch,
    secrets: Vec<Secret>,
}

impl Harbour {
    /// Starts all of it, each on a free port. What is watched is told to the node at this address;
    /// `token` makes a token for whatever has this name, and events to the board are signed with
    /// `board_key`.
    ///
    /// # Errors
    /// If a port cannot be had, or the key is none.
    pub fn start(
        node: &str,
        pace: Pace,
        token: impl Fn(&str) -> String,
        board_key: &str,
    ) -> Result<Self, StandinError> {
        let Pace { tick, seconds_a_tick, takes } = pace;
        let mut secrets = Secrets { made: Vec::new(), token: &token };
        let mut watch = |name, what, source: &'static str| {
            let url = format!("{node}/in/{}", source.trim_start_matches("source/"));
            Some((url, secrets.secret(name, what, source)))
        };
        let monitor = watch("yard-monitor", "monitor", "source/yard-hypervisor");
        let release_watch = watch("release-watch", "watch", "source/releases");
        let told = watch("harbour-watch", "harbour", "source/harbour-watch");
        let site_watch = watch("site-watch", "site-watch", "source/site-checks");
        let mut secret = |name, what, place| secrets.secret(name, what, place);
        let office = secret("yard-office", "office", "connection/yard-hypervisor");
        let chat = secret("crew-chat", "crew", "connection/crew-chat");
        let releases = secret("release-desk", "desk", "connection/release-desk");
        let desk = secret("ticket-desk", "client", "connection/ticket-desk");
        let kiosks = secret("kiosk-register", "kiosks", "connection/kiosk-register");
        let rota = secret("night-rota", "rota", "connection/pager");
        let features = secret("feature-switches", "features", "connection/feature-switches");
        let queue = secret("mail-queue", "queue", "connection/mail-queue");
        let cloud = secret("cloud", "cloud", "connection/cloud");
        let mailroom = secret("office-mail", "mail", "connection/office-mail");
        let site = secret("web-site", "site", "connection/web-site");
        let switch = secret("pier-switch-web", "switch", "connection/pier-switch-web");
        // Nothing is reached over SSH here, and there is no management controller: who plays that
        // sets keys of its own.
        for (name, place) in [
            ("yard-controllers", "connection/yard-controllers"),
            ("yard-machines", "connection/yard-machines"),
            ("yard-hosts", "connection/yard-hosts"),
            ("pier-switches", "connection/pier-switches"),
        ] {
            secret(name, "keys", place);
        }
        let Secrets { made: mut secrets, .. } = secrets;
        // The same switch, by way of the runner at its pier.
        secrets.push(("pier-3", switch.clone(), "connection/pier-3"));
        secrets.push(("board-key", board_key.to_owned(), "subscriber/harbour-board"));
        Ok(Self {
            yard: yard::start(YardOptions {
                port: 0,
                token: office,
                report_to: monitor,
                tick,
                seconds_a_tick,
            })?,
            chat: chat::start(0, chat)?,
            releases: releases::start(ReleaseOptions {
                port: 0,
                token: releases,
                report_to: release_watch,
                takes,
            })?,
            board: board::start(BoardOptions {
                port: 0,
                token: token("board"),
                key: board_key.to_owned(),
            })?,
            desk: desk::start(DeskOptions { port: 0, token: token("tickets"), secret: desk })?,
            kiosks: kiosks::start(0, kiosks, takes)?.watched(told.clone()),
            pager: pager::start(0, token("pager"), rota)?,
            features: features::start(0, features)?.watched(told.clone()),
            queue: queue::start(0, queue, takes)?.watched(told.clone()),
            cloud: cloud::start(0, cloud, takes)?.watched(told.clone()),
            mailroom: mailroom::start(0, mailroom)?,
            site: site::start(0, site, takes)?.watched(site_watch),
            switch: switch::start(0, switch)?.watched(told),
            secrets,
        })
    }

    /// The secrets that the node must know.
    pub fn secrets(&self) -> &[Secret] {
        &self.secrets
    }

    /// The settings of the node: the name of each, and the address of a stand-in.
    pub fn settings(&self) -> [(&'static str, String); 13] {
        [
            ("yard", self.yard.url()),
            ("crew-chat", self.chat.url()),
            ("release-desk", self.releases.url()),
            ("harbour-board", self.board.url()),
            ("ticket-desk", self.desk.url()),
            ("kiosk-register", self.kiosks.url()),
            ("pager", self.pager.url()),
            ("feature-switches", self.features.url()),
            ("mail-queue", self.queue.url()),
            ("cloud", self.cloud.url()),
            ("office-mail", self.mailroom.url()),
            ("web-site", self.site.url()),
            ("pier-switch-web", self.switch.url()),
        ]
    }

    /// Has the same go wrong everywhere that Arvok calls.
    pub fn set_faults(&self, faults: &Faults) {
        self.yard.set_faults(faults.clone());
        self.chat.set_faults(faults.clone());
        self.releases.set_faults(faults.clone());
        self.desk.set_faults(faults.clone());
        self.kiosks.set_faults(faults.clone());
        self.pager.set_faults(faults.clone());
        self.features.set_faults(faults.clone());
        self.queue.set_faults(faults.clone());
        self.cloud.set_faults(faults.clone());
        self.mailroom.set_faults(faults.clone());
        self.site.set_faults(faults.clone());
        self.switch.set_faults(faults.clone());
    }

    /// Stops all of it.
    pub async fn stop(&self) {
        self.yard.stop().await;
        self.chat.stop().await;
        self.releases.stop().await;
        self.board.stop().await;
        self.desk.stop().await;
        self.kiosks.stop().await;
        self.pager.stop().await;
        self.features.stop().await;
        self.queue.stop().await;
        self.cloud.stop().await;
        self.mailroom.stop();
        self.site.stop().await;
        self.switch.stop().await;
    }
}
