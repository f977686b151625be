//! A line to a machine: its key is compared before anything is shown to it.

use crate::{
    driver::{Way, unsent},
    machine::Machine,
};
use arvok_core::connector::{CallEnd, Failure, Opened, UserKey};
use russh::{
    Channel, Disconnect,
    client::{self, AuthResult, Config, Handle, KeyboardInteractiveAuthResponse, Msg},
    keys::{Certificate, HashAlg, PrivateKeyWithHashAlg, decode_secret_key},
};
use std::{
    fmt,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

/// How often a machine that says nothing is asked whether it is still there, and how often without
/// an answer.
const KEEPALIVE: Duration = Duration::from_secs(15);
const UNANSWERED: usize = 3;
/// How often a machine may ask for something before it lets anybody in.
const MAX_ROUNDS: usize = 4;

/// A key that was shown.
#[derive(Clone, Debug)]
pub(super) struct ShownKey {
    pub algorithm: String,
    pub fingerprint: String,
}

impl fmt::Display for ShownKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.algorithm, self.fingerprint)
    }
}

/// What a machine has shown, once it has.
#[derive(Clone, Debug, Default)]
pub(super) struct SeenKey(Arc<Mutex<Option<ShownKey>>>);

impl SeenKey {
    pub fn get(&self) -> Option<ShownKey> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Lets a machine in only with a trusted key.
pub(super) struct KeyCheck {
    known: Vec<String>,
    seen: SeenKey,
}

impl client::Handler for KeyCheck {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        shown: &russh::keys::PublicKeyOrCertificate,
    ) -> Result<bool, russh::Error> {
        let key = match shown {
            russh::keys::PublicKeyOrCertificate::PublicKey { key, .. } => key.clone(),
            russh::keys::PublicKeyOrCertificate::Certificate(certificate) => {
                certificate.public_key().clone().into()
            }
        };
        let fingerprint = key.fingerprint(HashAlg::Sha256).to_string();
        let is_known = self.known.contains(&fingerprint);
        let key = ShownKey { algorithm: key.algorithm().to_string(), fingerprint };
        *self.seen.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(key);
        Ok(is_known)
    }
}

/// To what on a machine a channel leads.
#[derive(Clone, Copy)]
pub(super) enum ChannelTo<'a> {
    /// A session, for a command or a subsystem.
    Session,
    /// A socket of the machine, by its path (OpenSSH's PROTOCOL, section 2.4).
    Socket(&'a str),
}

/// A line to a machine that has let us in.
pub(super) struct Line {
    handle: Handle<KeyCheck>,
}

impl fmt::Debug for Line {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Line")
    }
}

impl Line {
    /// Opens one, on a channel of a jump host where there is one. Nothing was done on the machine
    /// if that fails.
    pub async fn open(
        machine: &Machine,
        known: &[String],
        way: Way<'_>,
        seen: &SeenKey,
        through: Option<Channel<Msg>>,
    ) -> Result<Self, Failure> {
        let config = Config {
            keepalive_interval: Some(KEEPALIVE),
            keepalive_max: UNANSWERED,
            nodelay: true,
            ..Config::default()
        };
        let check = KeyCheck { known: known.to_vec(), seen: seen.clone() };
        let config = Arc::new(config);
        let connected = match through {
            None => client::connect(config, (machine.host.as_str(), machine.port), check).await,
            Some(channel) => client::connect_stream(config, channel.into_stream(), check).await,
        };
        let mut handle = match connected {
            Ok(handle) => handle,
            Err(russh::Error::UnknownKey) => return Err(untrusted(machine, known, seen)),
            Err(e) => {
                let message = format!("cannot connect to {}: {e}", machine.name());
                return Err(Failure::new(CallEnd::NotSent, message));
            }
        };
        sign_in(&mut handle, machine, way).await?;
        Ok(Self { handle })
    }

    pub fn is_closed(&self) -> bool {
        self.handle.is_closed()
    }

    /// A channel of its own for one act.
    pub async fn channel(&self, to: ChannelTo<'_>) -> Result<Channel<Msg>, russh::Error> {
        match to {
            ChannelTo::Session => self.handle.channel_open_session().await,
            ChannelTo::Socket(path) => self.handle.channel_open_direct_streamlocal(path).await,
        }
    }

    /// A channel on which another machine is spoken to (RFC 4254, section 7.2).
    pub async fn forwarding(&self, to: &Machine) -> Result<Channel<Msg>, russh::Error> {
        let (host, port) = (to.host.clone(), to.port.into());
        self.handle.channel_open_direct_tcpip(host, port, "127.0.0.1", 0).await
    }

    pub async fn close(&self) {
        let _ = self.handle.disconnect(Disconnect::ByApplication, "", "").await;
    }
}

fn untrusted(machine: &Machine, known: &[String], seen: &SeenKey) -> Failure {
    let shown = seen.get().map_or_else(|| "none".to_owned(), |key| key.to_string());
    let name = machine.name();
    Failure::lasting(
        CallEnd::NotSent,
        match known {
            [] => format!(
                "{name} shows the key {shown}, and nobody has trusted it yet; an admin who knows \
                 that it is right says so: arvok connection trust"
            ),
            known => format!(
                "{name} shows the key {shown}, and not the trusted one ({}); it was set up anew, \
                 or somebody else answers in its place. An admin who knows which trusts the new \
                 one: arvok connection trust",
                known.join(", ")
            ),
        },
    )
}

/// Shows the credential. Whether the machine takes it or not, nothing is done there yet.
async fn sign_in(
    handle: &mut Handle<KeyCheck>,
    machine: &Machine,
    way: Way<'_>,
) -> Result<(), Failure> {
    let broken = |e: russh::Error| {
        Failure::new(CallEnd::NotSent, format!("{} broke off: {e}", machine.name()))
    };
    let (user, result) = match way.credential {
        Some(Opened::Key(UserKey { user, private, passphrase, certificate })) => {
            let (private, passphrase) = (private.clone(), passphrase.clone());
            // A passphrase is stretched for a while on purpose.
            let read = tokio::task::spawn_blocking(move || {
                decode_secret_key(&private, passphrase.as_deref())
            });
            let key = read.await.ok().and_then(Result::ok).ok_or_else(|| {
                unsent(
                    "the private key of the credential cannot be read: it is OpenSSH's format or \
                     PEM, whole, and its passphrase opens it"
                        .into(),
                )
            })?;
            let result = match certificate {
                None => {
                    let hash = handle.best_supported_rsa_hash().await.map_err(broken)?.flatten();
                    let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
                    handle.authenticate_publickey(user, key).await
                }
                Some(text) => {
                    let certificate = Certificate::from_openssh(text.trim()).map_err(|e| {
                        unsent(format!("the certificate of the credential cannot be read: {e}"))
                    })?;
                    handle.authenticate_openssh_cert(user, Arc::new(key), certificate).await
                }
            };
            (user, result.map_err(broken)?)
        }
        Some(Opened::Basic { user, password }) => {
            let result = handle.authenticate_password(user, password).await.map_err(broken)?;
            let result = match result {
                AuthResult::Success => result,
                refused @ AuthResult::Failure { .. } => {
                    asked(handle, user, password).await.map_err(broken)?.unwrap_or(refused)
                }
            };
            (user, result)
        }
        _ => return Err(unsent("a machine is shown a `key`, or `basic`".into())),
    };
    match result {
        AuthResult::Success => Ok(()),
        AuthResult::Failure { remaining_methods, partial_success } => {
            let ways: Vec<&str> = remaining_methods.iter().map(Into::into).collect();
            let ways = ways.join(", ");
            let why = if partial_success { "wants something more than" } else { "does not take" };
            let name = machine.name();
            let message = format!("{name} {why} the credential of `{user}`; it would take: {ways}");
            Err(Failure::lasting(CallEnd::Refused, message))
        }
    }
}

/// Many devices ask for the password instead of taking it (RFC 4256).
async fn asked(
    handle: &mut Handle<KeyCheck>,
    user: &str,
    password: &str,
) -> Result<Option<AuthResult>, russh::Error> {
    let mut answer = handle.authenticate_keyboard_interactive_start(user, None).await?;
    for _ in 0..MAX_ROUNDS {
        let prompts = match answer {
            KeyboardInteractiveAuthResponse::Success => return Ok(Some(AuthResult::Success)),
            KeyboardInteractiveAuthResponse::Failure { remaining_methods, partial_success } => {
                return Ok(Some(AuthResult::Failure { remaining_methods, partial_success }));
            }
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => prompts.len(),
        };
        let answers = vec![password.to_owned(); prompts];
        answer = handle.authenticate_keyboard_interactive_respond(answers).await?;
    }
    Ok(None)
}
