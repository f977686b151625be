//! Brokers, over MQTT and AMQP: where one is, and how a line to it is made. Each call has a line of
//! its own, and so has whoever takes messages.

mod amqp;
mod consumer;
mod message;
mod mqtt;

pub(crate) use amqp::{Amqp, AmqpConsumer};
pub(crate) use consumer::ProtocolLine;
pub use consumer::{BrokerConsumer, Subscription};
pub use message::{BrokerMessage, Receipt};
pub(crate) use mqtt::{Mqtt, MqttConsumer};

use crate::driver::{Way, unsent};
use arvok_core::connector::{CallEnd, Failure, Opened};
use reqwest::Url;

/// Where a broker is.
#[derive(Debug)]
struct Broker {
    host: String,
    port: u16,
    is_tls: bool,
    /// What follows host and port: of AMQP the virtual host.
    path: String,
}

impl Broker {
    /// Reads an address; a scheme with an `s` at its end is TLS from the beginning.
    fn of(base: &str, plain: u16, tls: u16) -> Result<Self, Failure> {
        let wrong = |why: &str| unsent(format!("{base} is no broker's address: {why}"));
        let url = Url::parse(base).map_err(|e| wrong(&e.to_string()))?;
        let host = url.host_str().ok_or_else(|| wrong("it names no host"))?;
        let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
        if url.query().is_some() || !url.username().is_empty() {
            return Err(wrong("it has a host, a port and a path"));
        }
        let is_tls = url.scheme().ends_with('s');
        let port = url.port().unwrap_or(if is_tls { tls } else { plain });
        Ok(Self { host, port, is_tls, path: url.path().to_owned() })
    }
}

/// The name and the password that are shown.
fn shown<'w>(way: &Way<'w>) -> Result<Option<(&'w str, &'w str)>, Failure> {
    match way.credential {
        None => Ok(None),
        Some(Opened::Basic { user, password }) => Ok(Some((user, password))),
        Some(_) => Err(unsent(format!("{}: a broker is shown `basic`", way.base))),
    }
}

/// What is known of a message, by whether it has left.
const fn end(has_left: bool) -> CallEnd {
    if has_left { CallEnd::Unknown } else { CallEnd::NotSent }
}

/// That no answer came in time.
fn late(way: Way<'_>, has_left: bool) -> Failure {
    let seconds = way.timeout.as_secs_f32();
    Failure::new(end(has_left), format!("{}: no answer within {seconds} s", way.base))
}
