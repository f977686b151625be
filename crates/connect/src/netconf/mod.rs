//! Network devices over NETCONF: performs what the core has planned, in a session of its own on a
//! line that is kept ([`crate::ssh`]).

mod framing;

use crate::{
    driver::{Called, Driver, Way},
    machine::must_be_one,
    ssh::{Ssh, Subsystem},
};
use arvok_core::connector::{
    Answer, CallEnd, Failure, Hiding, NetconfExchange, NetconfNext, NetconfPlan, announced,
};
use framing::{Frames, framed};
use russh::ChannelMsg;
use serde_json::{Map, Value};
use std::time::Duration;
use tokio::time::Instant;

/// The name of the subsystem (RFC 6242, section 3).
const SUBSYSTEM: &str = "netconf";
const BASE_1_1: &str = "urn:ietf:params:netconf:base:1.1";
/// What we are capable of.
const HELLO: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\
    <hello xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\"><capabilities>\
    <capability>urn:ietf:params:netconf:base:1.0</capability>\
    <capability>urn:ietf:params:netconf:base:1.1</capability>\
    </capabilities></hello>";
/// So much of a reply is shown to people.
const SHOWN: usize = 64 << 10;

/// The driver.
#[derive(Debug)]
pub(crate) struct Netconf<'s>(pub &'s Ssh);

/// A line on which messages go back and forth.
struct Session {
    subsystem: Subsystem,
    frames: Frames,
}

impl Session {
    async fn send(&self, message: &str) -> Result<(), Failure> {
        let framed = framed(message, self.frames.is_chunked);
        self.subsystem.send(&framed).await.map_err(|_| cut())
    }

    /// The next message.
    async fn receive(&mut self) -> Result<Vec<u8>, Failure> {
        loop {
            let message = self.frames.next().map_err(|why| Failure::new(CallEnd::Unknown, why))?;
            if let Some(message) = message {
                return Ok(message);
            }
            match self.subsystem.from.wait().await {
                Some(ChannelMsg::Data { data }) => self.frames.add(&data),
                None | Some(ChannelMsg::Eof | ChannelMsg::Close) => return Err(cut()),
                Some(_) => {}
            }
        }
    }

    /// Says hello, and hears that of the device. It has no part in what is done after. Ours does
    /// not wait for the other (RFC 6241, section 8.1): by the time that the first request goes,
    /// which may be framed otherwise, the device has most likely read it.
    async fn hello(&mut self) -> Result<Vec<u8>, Failure> {
        self.send(HELLO).await.map_err(unsent)?;
        let hello = self.receive().await.map_err(unsent)?;
        let capabilities = announced(&hello, Hiding::NOTHING)?;
        self.frames.is_chunked = capabilities.iter().any(|one| one == BASE_1_1);
        Ok(hello)
    }
}

fn cut() -> Failure {
    Failure::new(CallEnd::Unknown, "the session was cut")
}

/// Nothing was asked yet.
fn unsent(failure: Failure) -> Failure {
    Failure { end: CallEnd::NotSent, ..failure }
}

/// Leads a session to its end, whatever the device says between replies.
async fn lead(
    session: &mut Session,
    exchange: &mut NetconfExchange<'_>,
    last: &mut Option<Answer>,
) -> Result<Value, Failure> {
    let mut next = exchange.ask();
    loop {
        match next {
            NetconfNext::Over(result) => return result,
            NetconfNext::Send(message) => {
                if let Err(why) = session.send(&message).await {
                    return exchange.cut(why);
                }
            }
        }
        next = loop {
            let message = match session.receive().await {
                Ok(message) => message,
                Err(why) => return exchange.cut(why),
            };
            *last = Some(answer(&message));
            if let Some(next) = exchange.replied(&message) {
                break next;
            }
        };
    }
}

/// What came, as people see it.
fn answer(message: &[u8]) -> Answer {
    let shown = &message[..message.len().min(SHOWN)];
    let body = Value::String(String::from_utf8_lossy(shown).trim().to_owned());
    Answer { status: 0, headers: Map::new(), body }
}

impl Netconf<'_> {
    async fn session(
        &self,
        way: Way<'_>,
        host: Option<&str>,
    ) -> Result<(Session, Vec<u8>, Duration), Failure> {
        let begun = Instant::now();
        let subsystem = self.0.subsystem(way, host, SUBSYSTEM).await?;
        let mut session = Session { subsystem, frames: Frames::default() };
        let left = way.timeout.saturating_sub(begun.elapsed());
        let hello = tokio::time::timeout(left, session.hello()).await;
        let hello = hello.unwrap_or_else(|_| {
            let seconds = way.timeout.as_secs_f32();
            let message = format!("said no hello within {seconds} s");
            Err(Failure::new(CallEnd::NotSent, message))
        });
        let hello = hello.map_err(|failure| named(&session.subsystem.machine, failure))?;
        Ok((session, hello, way.timeout.saturating_sub(begun.elapsed())))
    }

    /// Looks whether a device answers, is the trusted one, lets us in and says hello.
    ///
    /// # Errors
    /// That it does not.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        must_be_one(way)?;
        let (session, hello, _) = self.session(way, None).await?;
        let capabilities = announced(&hello, Hiding::NOTHING)?;
        let prefix = "urn:ietf:params:netconf:capability:";
        let names: Vec<&str> = capabilities
            .iter()
            .filter_map(|one| one.strip_prefix(prefix)?.split('?').next())
            .filter(|name| is_plain(name))
            .take(20)
            .collect();
        let machine = &session.subsystem.machine;
        let version = if session.frames.is_chunked { "1.1" } else { "1.0" };
        Ok(format!("{machine} speaks NETCONF {version} with {}", names.join(", ")))
    }
}

/// Whether a capability is called so that people can read it.
fn is_plain(name: &str) -> bool {
    name.len() <= 40 && name.chars().all(|c| c.is_ascii_alphanumeric() || "-_.:".contains(c))
}

fn named(machine: &str, failure: Failure) -> Failure {
    Failure { message: format!("{machine}: {}", failure.message), ..failure }
}

impl Driver<NetconfPlan<'_>> for Netconf<'_> {
    async fn perform(
        &self,
        plan: NetconfPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let (mut session, hello, left) = self.session(way, plan.host()).await?;
        let machine = session.subsystem.machine.clone();
        let mut exchange = plan.begin(&hello).map_err(|failure| named(&machine, failure))?;
        let leading = lead(&mut session, &mut exchange, last);
        let led = match tokio::time::timeout(left, leading).await {
            Ok(led) => led,
            Err(_) => {
                let seconds = way.timeout.as_secs_f32();
                let message = format!("was not done within {seconds} s");
                exchange.cut(Failure::new(CallEnd::Unknown, message))
            }
        };
        led.map(Called::Output).map_err(|failure| named(&machine, failure))
    }
}
