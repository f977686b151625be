//! Agents over SNMP: performs what the core has planned, over UDP. What only looks is asked again
//! when nothing is heard; what sets something is sent once.

use crate::{
    driver::{Called, Driver, Way, unsent},
    machine::{Machine, must_be_one},
};
use arvok_core::connector::{
    AgentCipher, AgentCredential, AgentDigest, Answer, CallEnd, Failure, Opened, SnmpPlan,
    snmp::{ObjectId, SnmpAct, SnmpValue},
};
use serde_json::{Map, json};
use snmp2::{
    AsyncSession, Error, Oid, Pdu, Value,
    v3::{Auth, AuthProtocol, Cipher, KeyExtension, Security},
};
use std::{net::Ipv4Addr, time::Duration};
use tokio::time::{Instant, timeout};

/// What an agent says of itself, and its name (RFC 3418): `sysDescr` and `sysName`.
const DESCRIPTION: [u32; 9] = [1, 3, 6, 1, 2, 1, 1, 1, 0];
const NAME: [u32; 9] = [1, 3, 6, 1, 2, 1, 1, 5, 0];
/// How long an answer is waited for until the same is asked again: a part of the time, within
/// these.
const SHORTEST_TRY: Duration = Duration::from_millis(300);
const LONGEST_TRY: Duration = Duration::from_secs(5);
/// Rows that are asked for at once.
const ROWS: u32 = 20;
/// How often an agent may say that its clock was not the one that we know.
const MOST_UPDATES: usize = 2;

/// The driver.
#[derive(Debug)]
pub(crate) struct Snmp;

/// What is asked.
#[derive(Clone, Copy)]
enum Asked<'a> {
    Get(&'a [Oid<'a>]),
    After(&'a Oid<'a>),
    Set(&'a [(ObjectId, SnmpValue)]),
}

/// What an agent says.
struct Said {
    status: u32,
    /// Which of what was asked for an error is of, from 1 on.
    index: u32,
    objects: Vec<(ObjectId, SnmpValue)>,
}

/// A line to an agent.
struct Session {
    /// The agent with its port.
    machine: String,
    session: AsyncSession,
    a_try: Duration,
    until: Instant,
    /// Whether something that changes anything may have been done.
    has_left: bool,
}

impl Session {
    async fn open(way: Way<'_>, host: Option<&str>) -> Result<Self, Failure> {
        let until = Instant::now() + way.timeout;
        let machine = Machine::addressed(way, host)?;
        let name = machine.name();
        let to = (machine.host.as_str(), machine.port);
        let begin = i32::from_be_bytes(random()?) & 0x3fff_ffff;
        let opening = async {
            match way.credential {
                Some(Opened::Agent(AgentCredential::Community(community))) => {
                    Ok(AsyncSession::new_v2c(to, community.as_bytes(), begin).await)
                }
                Some(Opened::Agent(AgentCredential::User { user, authentication, privacy })) => {
                    let security = security(user, authentication, privacy.as_ref());
                    Ok(AsyncSession::new_v3(to, begin, security).await)
                }
                _ => Err(unsent(format!("{name}: an agent is shown `snmp`"))),
            }
        };
        let unreached = |why: &dyn std::fmt::Display| {
            Failure::new(CallEnd::NotSent, format!("cannot reach {name}: {why}"))
        };
        let opened = timeout(way.timeout, opening).await.map_err(|e| unreached(&e))??;
        let session = opened.map_err(|e| unreached(&e))?;
        let a_try = (way.timeout / 4).clamp(SHORTEST_TRY, LONGEST_TRY);
        let mut made = Self { machine: name, session, a_try, until, has_left: false };
        made.begin().await?;
        Ok(made)
    }

    /// Asks for what version 3 has to know of the agent; nothing else is said before.
    async fn begin(&mut self) -> Result<(), Failure> {
        loop {
            let left = self.left()?;
            match timeout(self.a_try.min(left), self.session.init()).await {
                Ok(Ok(())) => return Ok(()),
                Ok(Err(why)) => return Err(self.failed(&why)),
                Err(_) => {}
            }
        }
    }

    fn left(&self) -> Result<Duration, Failure> {
        let left = self.until.saturating_duration_since(Instant::now());
        match left.is_zero() {
            false => Ok(left),
            true => {
                let end = if self.has_left { CallEnd::Unknown } else { CallEnd::NotSent };
                let silent = "no answer; nobody is there, or nobody who knows the credential";
                Err(Failure::new(end, format!("{}: {silent}", self.machine)))
            }
        }
    }

    /// Asks until an answer comes or the time is over; what sets something is sent once.
    async fn ask(&mut self, asked: Asked<'_>) -> Result<Said, Failure> {
        let mut updates = 0;
        loop {
            let left = self.left()?;
            let sets = matches!(asked, Asked::Set(_));
            let a_try = if sets { left } else { self.a_try.min(left) };
            self.has_left = sets;
            match timeout(a_try, said(&mut self.session, asked)).await {
                Ok(Ok(said)) => return Ok(said),
                // Nothing was done: our clock is put right, and the same is asked again.
                Ok(Err(Error::AuthUpdated)) if updates < MOST_UPDATES => updates += 1,
                // An answer to what was asked before that.
                Ok(Err(Error::RequestIdMismatch)) if !sets => {}
                Ok(Err(why)) => return Err(self.failed(&why)),
                Err(_) => {}
            }
        }
    }

    fn failed(&self, why: &Error) -> Failure {
        let name = &self.machine;
        match why {
            // Nobody listens there.
            Error::Send | Error::Receive => {
                Failure::new(CallEnd::NotSent, format!("nobody answers at {name}"))
            }
            Error::AuthFailure(why) => {
                let message = format!("{name} does not take the credential: {why}");
                Failure::lasting(CallEnd::Refused, message)
            }
            Error::BufferOverflow | Error::Crypto(_) | Error::ValueOutOfRange => {
                unsent(format!("{name}: {why}"))
            }
            why => {
                let end = if self.has_left { CallEnd::Unknown } else { CallEnd::NotSent };
                Failure::new(end, format!("{name}: what came cannot be read: {why}"))
            }
        }
    }
}

fn random() -> Result<[u8; 4], Failure> {
    let mut bytes = [0; 4];
    getrandom::fill(&mut bytes).map_err(|e| unsent(e.to_string()))?;
    Ok(bytes)
}

/// How a user's requests are known and kept from others.
fn security(
    user: &str,
    (digest, known): &(AgentDigest, String),
    privacy: Option<&(AgentCipher, String)>,
) -> Security {
    let digest = match digest {
        AgentDigest::Md5 => AuthProtocol::Md5,
        AgentDigest::Sha1 => AuthProtocol::Sha1,
        AgentDigest::Sha224 => AuthProtocol::Sha224,
        AgentDigest::Sha256 => AuthProtocol::Sha256,
        AgentDigest::Sha384 => AuthProtocol::Sha384,
        AgentDigest::Sha512 => AuthProtocol::Sha512,
    };
    let auth = match privacy {
        None => Auth::AuthNoPriv,
        Some((cipher, password)) => Auth::AuthPriv {
            cipher: match cipher {
                AgentCipher::Des => Cipher::Des,
                AgentCipher::Aes128 => Cipher::Aes128,
                AgentCipher::Aes192 => Cipher::Aes192,
                AgentCipher::Aes256 => Cipher::Aes256,
            },
            privacy_password: password.as_bytes().to_vec(),
        },
    };
    Security::new(user.as_bytes(), known.as_bytes())
        .with_auth_protocol(digest)
        .with_auth(auth)
        .with_key_extension_method(KeyExtension::Blumenthal)
}

/// Asks once.
async fn said(session: &mut AsyncSession, asked: Asked<'_>) -> Result<Said, Error> {
    let answer = match asked {
        Asked::Get(numbers) => {
            let numbers: Vec<&Oid<'_>> = numbers.iter().collect();
            session.get_many(&numbers).await?
        }
        Asked::After(number) => session.getbulk(&[number], 0, ROWS).await?,
        Asked::Set(objects) => {
            let numbers = objects.iter().map(|(number, _)| number_of(number));
            let numbers: Vec<Oid<'_>> = numbers.collect::<Result<_, _>>()?;
            // A reference is made of a number that lives as long as the request.
            let references = objects.iter().map(|(_, value)| match value {
                SnmpValue::Reference(number) => number_of(number).map(Some),
                _ => Ok(None),
            });
            let references: Vec<Option<Oid<'_>>> = references.collect::<Result<_, _>>()?;
            let values = objects.iter().zip(&references).map(|((_, value), reference)| {
                Ok(match value {
                    SnmpValue::Integer(number) => Value::Integer(*number),
                    SnmpValue::Unsigned(number) => Value::Unsigned32(u32::try_from(*number)?),
                    SnmpValue::Bytes(bytes) => Value::OctetString(bytes),
                    SnmpValue::Address(address) => Value::IpAddress(address.octets()),
                    SnmpValue::Reference(_) => {
                        Value::ObjectIdentifier(reference.clone().ok_or(Error::AsnParse)?)
                    }
                    SnmpValue::None => Value::Null,
                })
            });
            let values: Vec<Value<'_>> = values.collect::<Result<_, Error>>()?;
            let set: Vec<(&Oid<'_>, Value<'_>)> = numbers.iter().zip(values).collect();
            session.set(&set).await?
        }
    };
    Ok(read(&answer))
}

fn number_of(number: &ObjectId) -> Result<Oid<'static>, Error> {
    let parts: Vec<u64> = number.parts().iter().map(|part| u64::from(*part)).collect();
    Oid::from(&parts).map_err(|_| Error::AsnParse)
}

fn read(answer: &Pdu<'_>) -> Said {
    let object =
        |(number, value): (Oid<'_>, Value<'_>)| Some((object_id(&number)?, snmp_value(value)?));
    let objects = answer.varbinds.clone().filter_map(object).collect();
    Said { status: answer.error_status, index: answer.error_index, objects }
}

/// The number of an object, as it came.
pub(crate) fn object_id(number: &Oid<'_>) -> Option<ObjectId> {
    let parts = number.iter()?.map(|part| u32::try_from(part).ok());
    ObjectId::new(parts.collect::<Option<_>>()?)
}

/// A value, as it came; none if it is the number of no object.
pub(crate) fn snmp_value(value: Value<'_>) -> Option<SnmpValue> {
    Some(match value {
        Value::Integer(number) => SnmpValue::Integer(number),
        Value::Counter32(number) | Value::Unsigned32(number) | Value::Timeticks(number) => {
            SnmpValue::Unsigned(number.into())
        }
        Value::Counter64(number) => SnmpValue::Unsigned(number),
        Value::OctetString(bytes) | Value::Opaque(bytes) => SnmpValue::Bytes(bytes.to_vec()),
        Value::IpAddress(octets) => SnmpValue::Address(Ipv4Addr::from(octets)),
        Value::ObjectIdentifier(number) => SnmpValue::Reference(object_id(&number)?),
        _ => SnmpValue::None,
    })
}

/// The objects of a column, up to a number of them; whether some were left out.
async fn column(
    session: &mut Session,
    plan: &SnmpPlan<'_>,
    of: &ObjectId,
    at_most: usize,
) -> Result<(Vec<(ObjectId, SnmpValue)>, bool), Failure> {
    let mut cells: Vec<(ObjectId, SnmpValue)> = Vec::new();
    loop {
        let last = cells.last().map_or(of, |(number, _)| number);
        let after = number_of(last).map_err(|e| session.failed(&e))?;
        let said = session.ask(Asked::After(&after)).await?;
        if said.status != 0 {
            return Err(plan.refused(said.status, Some(of)));
        }
        let before = cells.len();
        for (number, value) in said.objects {
            // One that does not grow is that of an agent that would go on without an end.
            let grows = cells.last().map_or(of, |(number, _)| number) < &number;
            if number.below(of).is_none() || value == SnmpValue::None || !grows {
                return Ok((cells, false));
            }
            if cells.len() >= at_most {
                return Ok((cells, true));
            }
            cells.push((number, value));
        }
        if cells.len() == before {
            return Ok((cells, false));
        }
    }
}

impl Snmp {
    /// Looks whether an agent answers and lets us in.
    ///
    /// # Errors
    /// That it does not.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        must_be_one(way)?;
        let mut session = Session::open(way, None).await?;
        let numbers = [DESCRIPTION, NAME].map(|parts| ObjectId::new(parts.to_vec()));
        let numbers: Vec<Oid<'_>> =
            numbers.iter().flatten().filter_map(|number| number_of(number).ok()).collect();
        let said = session.ask(Asked::Get(&numbers)).await?;
        let mut texts = said.objects.iter().map(|(_, value)| {
            let text = value.json().as_str().unwrap_or_default().to_owned();
            arvok_core::text::cut(&text, 100).to_owned()
        });
        let (what, name) = (texts.next().unwrap_or_default(), texts.next().unwrap_or_default());
        Ok(format!("{} answers; it is {name}: {what}", session.machine))
    }
}

impl Driver<SnmpPlan<'_>> for Snmp {
    async fn perform(
        &self,
        plan: SnmpPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let mut session = Session::open(way, plan.host()).await?;
        let machine = session.machine.clone();
        let named = |failure: Failure| match failure.message.contains(&machine) {
            true => failure,
            false => Failure { message: format!("{machine}: {}", failure.message), ..failure },
        };
        let output = match plan.act() {
            SnmpAct::Get(objects) => {
                let numbers = objects.iter().map(|(_, number)| number_of(number));
                let numbers: Result<Vec<Oid<'_>>, Error> = numbers.collect();
                let numbers = numbers.map_err(|e| session.failed(&e))?;
                let said = session.ask(Asked::Get(&numbers)).await?;
                *last = Some(shown(&said.objects));
                let at = usize::try_from(said.index).unwrap_or(0).checked_sub(1);
                let of = at.and_then(|at| objects.get(at)).map(|(_, number)| number);
                match said.status {
                    0 => {
                        let values = objects.iter().map(|(_, number)| {
                            let found = said.objects.iter().find(|(its, _)| its == number);
                            found.map_or(SnmpValue::None, |(_, value)| value.clone())
                        });
                        plan.read(&values.collect::<Vec<_>>())
                    }
                    status => Err(plan.refused(status, of)),
                }
            }
            SnmpAct::Table { columns, at_most } => {
                let at_most = usize::try_from(*at_most).unwrap_or(usize::MAX);
                let (mut all, mut left_out) = (Vec::new(), false);
                for (_, of) in columns {
                    let read = column(&mut session, &plan, of, at_most).await;
                    let (cells, more) = read.map_err(named)?;
                    left_out |= more;
                    all.push(cells);
                }
                *last = all.first().map(|cells| shown(cells));
                plan.rows(&all, left_out)
            }
            SnmpAct::Set(objects) => {
                let said = session.ask(Asked::Set(objects)).await?;
                *last = Some(shown(&said.objects));
                let at = usize::try_from(said.index).unwrap_or(0).checked_sub(1);
                let of = at.and_then(|at| objects.get(at)).map(|(number, _)| number);
                match said.status {
                    0 => plan.is_set(),
                    status => Err(plan.refused(status, of)),
                }
            }
        };
        output.map(Called::Output).map_err(named)
    }
}

/// What came, as people see it.
fn shown(objects: &[(ObjectId, SnmpValue)]) -> Answer {
    let body = objects
        .iter()
        .take(200)
        .map(|(number, value)| (number.to_string(), value.json()))
        .collect::<Map<_, _>>();
    Answer { status: 0, headers: Map::new(), body: json!(body) }
}
