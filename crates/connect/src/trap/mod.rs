//! Traps and informs of agents over SNMP: who sends them is proved, and what they tell is read.
//! Informs are answered, and with them this end is the authoritative engine (RFC 3414): it has a
//! new name whenever it begins, so that it needs no memory of how often it did.

mod packet;
mod security;
#[cfg(test)]
mod tests;

use arvok_core::{
    connector::{AgentCipher, AgentCredential, AgentDigest},
    source::SnmpNotification,
    text::cut,
};
use packet::{
    AUTHENTICATED, CommunityMessage, LONGEST, MessageBody, MessageData, PRIVATE, Packet,
    REPORTABLE, ScopedBody, UserMessage, address_bytes, scoped_answer, scoped_report,
};
use security::{
    Beginning, cipher_key, decrypted, digest_length, digest_of, encrypted, key_of_password,
    localized,
};
use sha2::{Digest, Sha256};
use snmp2::{Error, Oid};
use std::{
    collections::HashMap,
    net::IpAddr,
    panic::{AssertUnwindSafe, catch_unwind},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicU32, Ordering},
    },
    time::Instant,
};
use subtle::ConstantTimeEq;

/// How far the clock of a message may be behind, in seconds (RFC 3414, section 2.2.3).
const WINDOW: u32 = 150;
/// Most engines whose clocks are known.
const MOST_ENGINES: usize = 10_000;
/// An engine that has begun so often takes nothing any more.
const MOST_BOOTS: u32 = i32::MAX.unsigned_abs();
/// Counters that reports carry (RFC 3414, section 5), below `usmStats`.
const STATS: [u64; 9] = [1, 3, 6, 1, 6, 3, 15, 1, 1];

/// What a message means that is not taken (RFC 3414, section 5: its last number but one).
#[derive(Clone, Copy, PartialEq)]
enum Fault {
    Level = 1,
    Window = 2,
    User = 3,
    Engine = 4,
    Digest = 5,
    Decryption = 6,
}

/// What came of a packet.
#[derive(Debug)]
pub enum ReceivedPacket {
    /// A notification whose sender has proved itself.
    Notification {
        /// What it tells, as JSON.
        raw: Vec<u8>,
        /// What it is known by if it comes again.
        key: Option<String>,
        /// What is sent back once it is recorded.
        answer: Option<Vec<u8>>,
    },
    /// A sender asks whom it speaks to.
    Question(Vec<u8>),
    /// It is not taken.
    Refused {
        /// Why.
        why: String,
        /// What its sender is told.
        answer: Option<Vec<u8>>,
    },
}

/// A user, with its keys before they belong to an engine.
struct TrapUser {
    name: String,
    digest: AgentDigest,
    key: Vec<u8>,
    privacy: Option<(AgentCipher, Vec<u8>)>,
}

/// The clock of an engine, as it was heard last.
#[derive(Clone, Copy)]
struct EngineClock {
    boots: u32,
    time: u32,
    at: Instant,
}

/// Takes the packets of one source.
pub struct TrapReceiver {
    communities: Vec<String>,
    users: Vec<TrapUser>,
    engine: Vec<u8>,
    since: Instant,
    clocks: Mutex<HashMap<Vec<u8>, EngineClock>>,
    reports: AtomicU32,
}

impl TrapReceiver {
    /// One for senders with any of these credentials. Making keys of passwords takes a while: some
    /// milliseconds each.
    ///
    /// # Errors
    /// If there is no randomness.
    pub fn new(credentials: &[AgentCredential<String>]) -> Result<Self, String> {
        let mut random = [0; 12];
        getrandom::fill(&mut random).map_err(|e| e.to_string())?;
        // RFC 3411, section 5: by no maker, of any bytes.
        let engine = [&[0x80, 0, 0, 0, 5][..], &random].concat();
        let (mut communities, mut users) = (Vec::new(), Vec::new());
        for credential in credentials {
            match credential {
                AgentCredential::Community(community) => communities.push(community.clone()),
                AgentCredential::User { user, authentication: (digest, known), privacy } => {
                    let privacy = privacy.as_ref();
                    users.push(TrapUser {
                        name: user.clone(),
                        digest: *digest,
                        key: key_of_password(*digest, known),
                        privacy: privacy.map(|(cipher, password)| {
                            (*cipher, key_of_password(*digest, password))
                        }),
                    });
                }
            }
        }
        Ok(Self {
            communities,
            users,
            engine,
            since: Instant::now(),
            clocks: Mutex::default(),
            reports: AtomicU32::new(0),
        })
    }

    /// Reads a packet.
    pub fn receive(&self, packet: &[u8], peer: IpAddr) -> ReceivedPacket {
        // The reader is not ours: whatever it may do to a packet, the next one is read.
        let read = catch_unwind(AssertUnwindSafe(|| self.read(packet, peer)));
        read.unwrap_or_else(|_| refused("it cannot be taken apart"))
    }

    fn read(&self, packet: &[u8], peer: IpAddr) -> ReceivedPacket {
        if packet.len() > LONGEST {
            return refused(format!("it has {} bytes; {LONGEST} are read", packet.len()));
        }
        match Packet::parse(packet) {
            Err(e) => refused(format!("it is no message of SNMP: {e}")),
            Ok(Packet::OfCommunity(message)) => self.of_community(packet, peer, &message),
            Ok(Packet::OfUser(message)) => match self.of_user(packet, peer, &message) {
                Ok(received) | Err(received) => received,
            },
        }
    }

    fn of_community(
        &self,
        packet: &[u8],
        peer: IpAddr,
        message: &CommunityMessage<'_>,
    ) -> ReceivedPacket {
        let is_it = |known: &String| bool::from(known.as_bytes().ct_eq(message.community));
        // However many there are, the comparison takes as long.
        if self.communities.iter().filter(|known| is_it(known)).count() == 0 {
            return refused("its community is none of this source's");
        }
        match message.body() {
            Err(e) => refused(not_read(&e)),
            Ok(MessageBody::Head(head, objects)) => {
                taken(&SnmpNotification::of_version_1(&head, &objects), None, None)
            }
            Ok(MessageBody::Objects { inform, raw, objects }) => {
                let told = SnmpNotification::of_version_2(&objects);
                let answer = inform.map(|request| message.answer(request, raw));
                // An inform comes again until it is answered; a trap is sent once.
                taken(&told, inform.map(|_| key_of(packet, peer)), answer)
            }
        }
    }

    fn of_user(
        &self,
        packet: &[u8],
        peer: IpAddr,
        message: &UserMessage<'_>,
    ) -> Result<ReceivedPacket, ReceivedPacket> {
        let is_ours = message.engine == self.engine;
        // A sender that wants an answer finds out first whom it speaks to.
        if !is_ours && message.flags & REPORTABLE != 0 {
            let report = self.report(message, Fault::Engine, None);
            return Ok(
                report.map_or_else(|| refused("it names no engine"), ReceivedPacket::Question)
            );
        }
        let fault = |why: String, fault: Fault, user: Option<&TrapUser>| {
            let answer = self.report(message, fault, user);
            ReceivedPacket::Refused { why, answer }
        };
        let name = String::from_utf8_lossy(message.user);
        let shown = cut(&name, 100);
        let Some(user) = self.users.iter().find(|user| user.name == name) else {
            let why = format!("its user `{shown}` is none of this source's");
            return Err(fault(why, Fault::User, None));
        };
        let is_private = message.flags & PRIVATE != 0;
        if message.flags & AUTHENTICATED == 0 || is_private != user.privacy.is_some() {
            let wanted = match user.privacy {
                Some(_) => "authentication and privacy",
                None => "authentication and no privacy",
            };
            return Err(fault(format!("user `{shown}` has {wanted}"), Fault::Level, None));
        }
        if !user.has_made(packet, message) {
            let why = format!("its digest is not made with the password of user `{shown}`");
            return Err(fault(why, Fault::Digest, None));
        }
        let in_time = if is_ours { self.is_now(message) } else { self.is_later(message) };
        if !in_time {
            let why = format!(
                "its clock is behind (boots {}, {} s): it was sent before, or its agent forgot how \
                often it has begun",
                message.boots, message.time
            );
            return Err(fault(why, Fault::Window, Some(user)));
        }
        let plain: Vec<u8>;
        let scoped = match (message.data, &user.privacy) {
            (MessageData::Plain(content), None) => ScopedBody::parse(content),
            (MessageData::Encrypted(secret), Some((cipher, key))) => {
                let key = user.cipher_key(*cipher, key, message.engine);
                let from =
                    Beginning { boots: message.boots, time: message.time, salt: message.salt };
                let Some(decrypted) = decrypted(*cipher, &key, from, secret) else {
                    let why = format!("what user `{shown}` sends cannot be decrypted");
                    return Err(fault(why, Fault::Decryption, None));
                };
                plain = decrypted;
                ScopedBody::parse_decrypted(&plain)
            }
            _ => return Err(refused("its flags say otherwise than what it carries")),
        };
        let scoped = scoped.map_err(|e| match is_private {
            true => refused(format!(
                "what user `{shown}` sends cannot be read; is its privacy password another? ({e})"
            )),
            false => refused(not_read(&e)),
        })?;
        let MessageBody::Objects { inform, raw, objects } = &scoped.body else {
            return Err(refused(not_read(&Error::AsnWrongType)));
        };
        let told = SnmpNotification {
            version: "3".to_owned(),
            user: name.clone().into_owned(),
            engine: hex::encode(if is_ours { scoped.engine } else { message.engine }),
            context: String::from_utf8_lossy(scoped.context).into_owned(),
            ..SnmpNotification::of_version_2(objects)
        };
        let answer = inform
            .and_then(|request| self.message(message, user, &scoped_answer(&scoped, request, raw)));
        Ok(taken(&told, Some(key_of(packet, peer)), answer))
    }

    fn time(&self) -> u32 {
        u32::try_from(self.since.elapsed().as_secs()).unwrap_or(u32::MAX)
    }

    /// Whether a message to this engine was sent just now.
    fn is_now(&self, message: &UserMessage<'_>) -> bool {
        message.boots == 1 && self.time().abs_diff(message.time) <= WINDOW
    }

    /// Whether a message of another engine is not one of before (RFC 3414, section 3.2, 7b).
    fn is_later(&self, message: &UserMessage<'_>) -> bool {
        let mut clocks = self.clocks.lock().unwrap_or_else(PoisonError::into_inner);
        let now = EngineClock { boots: message.boots, time: message.time, at: Instant::now() };
        if message.boots >= MOST_BOOTS {
            return false;
        }
        let Some(known) = clocks.get_mut(message.engine) else {
            if clocks.len() >= MOST_ENGINES {
                clocks.clear();
            }
            clocks.insert(message.engine.to_vec(), now);
            return true;
        };
        let passed = u32::try_from(known.at.elapsed().as_secs()).unwrap_or(u32::MAX);
        let expected = known.time.saturating_add(passed);
        let is_later = (now.boots, now.time.saturating_add(WINDOW)) >= (known.boots, expected)
            && now.boots >= known.boots;
        if (now.boots, now.time) > (known.boots, known.time) {
            *known = now;
        }
        is_later
    }

    /// Tells a sender that wants an answer what it has to know.
    fn report(
        &self,
        of: &UserMessage<'_>,
        fault: Fault,
        user: Option<&TrapUser>,
    ) -> Option<Vec<u8>> {
        if of.flags & REPORTABLE == 0 {
            return None;
        }
        let number = [&STATS[..], &[fault as u64, 0]].concat();
        let object = Oid::from(&number).ok()?;
        let count = self.reports.fetch_add(1, Ordering::Relaxed).wrapping_add(1);
        let scoped = scoped_report(&self.engine, &object, count);
        let report = UserMessage {
            id: of.id,
            flags: if user.is_some() { AUTHENTICATED } else { 0 },
            engine: &self.engine,
            boots: 1,
            time: self.time(),
            user: if user.is_some() { of.user } else { b"" },
            digest_at: 0,
            digest: b"",
            salt: b"",
            data: MessageData::Plain(&scoped),
        };
        Some(match user {
            Some(user) => user.proved(report),
            None => report.build(),
        })
    }

    /// A message to the sender of another one, as well kept as that was.
    fn message(&self, of: &UserMessage<'_>, user: &TrapUser, scoped: &[u8]) -> Option<Vec<u8>> {
        let time = self.time();
        let mut salt = [0; 8];
        let mut message = UserMessage {
            id: of.id,
            flags: AUTHENTICATED,
            engine: &self.engine,
            boots: 1,
            time,
            user: of.user,
            digest_at: 0,
            digest: b"",
            salt: b"",
            data: MessageData::Plain(scoped),
        };
        let Some((cipher, key)) = &user.privacy else { return Some(user.proved(message)) };
        getrandom::fill(&mut salt).ok()?;
        let key = user.cipher_key(*cipher, key, &self.engine);
        let from = Beginning { boots: 1, time, salt: &salt };
        let secret = encrypted(*cipher, &key, from, scoped)?;
        message.flags |= PRIVATE;
        message.salt = &salt;
        message.data = MessageData::Encrypted(&secret);
        Some(user.proved(message))
    }
}

impl TrapUser {
    fn cipher_key(&self, cipher: AgentCipher, key: &[u8], engine: &[u8]) -> Vec<u8> {
        cipher_key(cipher, self.digest, localized(self.digest, key, engine))
    }

    /// What proves a packet, whose digest stands there.
    fn digest(&self, packet: &[u8], engine: &[u8], at: usize) -> Vec<u8> {
        let mut blank = packet.to_vec();
        blank[at..at + digest_length(self.digest)].fill(0);
        digest_of(self.digest, &localized(self.digest, &self.key, engine), &blank)
    }

    /// Whether a message was made by somebody with this user's password.
    fn has_made(&self, packet: &[u8], message: &UserMessage<'_>) -> bool {
        message.digest.len() == digest_length(self.digest)
            && !self.key.is_empty()
            && bool::from(
                self.digest(packet, message.engine, message.digest_at).ct_eq(message.digest),
            )
    }

    /// A message as bytes, with what proves it.
    fn proved(&self, message: UserMessage<'_>) -> Vec<u8> {
        let blank = vec![0; digest_length(self.digest)];
        let mut packet = UserMessage { digest: &blank, ..message }.build();
        let at = match Packet::parse(&packet) {
            Ok(Packet::OfUser(built)) => built.digest_at,
            _ => return packet,
        };
        let digest = self.digest(&packet, message.engine, at);
        packet[at..at + digest.len()].copy_from_slice(&digest);
        packet
    }
}

fn refused(why: impl Into<String>) -> ReceivedPacket {
    ReceivedPacket::Refused { why: why.into(), answer: None }
}

fn not_read(why: &Error) -> String {
    match why {
        Error::AsnWrongType => "it is neither a trap nor an inform".to_owned(),
        why => format!("what it tells cannot be read: {why}"),
    }
}

fn taken(told: &SnmpNotification, key: Option<String>, answer: Option<Vec<u8>>) -> ReceivedPacket {
    match serde_json::to_vec(told) {
        Ok(raw) => ReceivedPacket::Notification { raw, key, answer },
        Err(e) => refused(e.to_string()),
    }
}

/// What comes again is the same to its last byte, and from the same place.
fn key_of(packet: &[u8], peer: IpAddr) -> String {
    let mut hasher = Sha256::new();
    hasher.update(address_bytes(peer));
    hasher.update(packet);
    format!("snmp {}", hex::encode(&hasher.finalize()[..16]))
}
