//! Devices that speak SSH in their own way: what asks for the password, runs no commands, breaks
//! off, or never stops talking.

use crate::ssh::{LONG, TRUE, failure, machine, output};
use arvok_connect::{Drivers, TrustedKeys, Way};
use arvok_core::connector::{CallEnd, Opened};
use russh::{
    Channel, ChannelId,
    keys::{HashAlg, decode_secret_key},
    server::{self, Auth, ChannelOpenHandle, Msg, Response, Session},
};
use serde_json::json;
use std::{borrow::Cow, sync::Arc, time::Duration};
use tokio::net::TcpListener;

const PASSWORD: &str = "fog-horn-77";

#[derive(Clone, Copy, Debug, PartialEq)]
enum Manner {
    /// Takes a password, and runs what is asked.
    Takes,
    /// Asks for the password.
    Asks,
    /// Says that it runs nothing.
    Refuses,
    /// Closes the channel without a status.
    BreaksOff,
    /// Writes without an end.
    Floods,
}

struct Device(Manner);

impl server::Handler for Device {
    type Error = russh::Error;

    async fn auth_password(&mut self, _: &str, password: &str) -> Result<Auth, russh::Error> {
        let takes = self.0 != Manner::Asks && password == PASSWORD;
        Ok(if takes { Auth::Accept } else { Auth::reject() })
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        _: &str,
        _: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, russh::Error> {
        let answers: Vec<_> = response.into_iter().flatten().collect();
        Ok(match answers.as_slice() {
            [] => Auth::Partial {
                name: Cow::Borrowed(""),
                instructions: Cow::Borrowed("Pier switch"),
                prompts: Cow::Borrowed(&[(Cow::Borrowed("Password: "), false)]),
            },
            [answer] if answer.as_ref() == PASSWORD.as_bytes() => Auth::Accept,
            _ => Auth::reject(),
        })
    }

    async fn channel_open_session(
        &mut self,
        _: Channel<Msg>,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), russh::Error> {
        reply.accept().await;
        Ok(())
    }

    async fn exec_request(
        &mut self,
        channel: ChannelId,
        asked: &[u8],
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        match self.0 {
            Manner::Refuses => session.channel_failure(channel)?,
            Manner::BreaksOff => {
                session.channel_success(channel)?;
                session.data(channel, &b"half"[..])?;
                session.close(channel)?;
            }
            Manner::Floods => {
                session.channel_success(channel)?;
                let handle = session.handle();
                tokio::spawn(async move {
                    while handle.data(channel, vec![b'x'; 32 << 10]).await.is_ok() {}
                });
            }
            Manner::Takes | Manner::Asks => {
                session.channel_success(channel)?;
                session.data(channel, asked.to_vec())?;
                session.exit_status_request(channel, 0)?;
                session.eof(channel)?;
                session.close(channel)?;
            }
        }
        Ok(())
    }
}

/// A device; its address, and the key by which it is known.
async fn device(manner: Manner, key: &str) -> (String, TrustedKeys) {
    let key = decode_secret_key(key, None).expect("a key");
    let fingerprint = key.public_key().fingerprint(HashAlg::Sha256).to_string();
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let at = listener.local_addr().expect("has one");
    let config = Arc::new(server::Config {
        keys: vec![key],
        auth_rejection_time: Duration::from_millis(10),
        ..server::Config::default()
    });
    tokio::spawn(async move {
        while let Ok((socket, _)) = listener.accept().await {
            let config = Arc::clone(&config);
            tokio::spawn(async move {
                if let Ok(session) = server::run_stream(config, socket, Device(manner)).await {
                    let _ = session.await;
                }
            });
        }
    });
    (format!("ssh://{at}"), [(at.to_string(), fingerprint)].into())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_is_shown_or_given_where_it_is_asked_for() {
    let keys = machine("passwords");
    let key = keys.keygen("device", "").expect("a key");
    let drivers = Drivers::new().expect("drivers");
    for manner in [Manner::Takes, Manner::Asks] {
        let (base, trusted) = device(manner, &key).await;
        let way = Way { trusted: Some(&trusted), ..Way::to(&base, LONG) };
        let shown =
            |password: &str| Opened::Basic { user: "ops".into(), password: password.to_owned() };
        let right = shown(PASSWORD);
        let came = output(&drivers, Way { credential: Some(&right), ..way }, TRUE, json!("")).await;
        assert_eq!(came, json!("true"), "{manner:?}");
        let wrong = shown("bell-buoy-12");
        let failed =
            failure(&drivers, Way { credential: Some(&wrong), ..way }, TRUE, json!("")).await;
        assert_eq!((failed.end, failed.lasting), (CallEnd::Refused, true), "{failed:?}");
        assert!(!failed.message.contains("bell-buoy"), "{failed:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_in_its_own_way_is_understood_or_not_known() {
    let keys = machine("devices");
    let key = keys.keygen("device", "").expect("a key");
    let drivers = Drivers::new().expect("drivers");
    let credential = Opened::Basic { user: "ops".into(), password: PASSWORD.into() };
    for (manner, end, said) in [
        (Manner::Refuses, CallEnd::Refused, "runs no commands for this user"),
        (Manner::BreaksOff, CallEnd::Unknown, "was cut in the middle"),
        (Manner::Floods, CallEnd::Unknown, "was not done within 3 s"),
    ] {
        let (base, trusted) = device(manner, &key).await;
        let way = Way {
            credential: Some(&credential),
            trusted: Some(&trusted),
            ..Way::to(&base, if said.contains("3 s") { Duration::from_secs(3) } else { LONG })
        };
        let failed = failure(&drivers, way, TRUE, json!("")).await;
        assert_eq!(failed.end, end, "{manner:?}: {failed:?}");
        assert!(failed.message.contains(said), "{manner:?}: {failed:?}");
    }
}
