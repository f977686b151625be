//! Messages of SNMP as bytes (RFC 1157, section 4; RFC 3412, section 6; RFC 3414, section 2.4).

use crate::snmp::{object_id, snmp_value};
use arvok_core::{
    connector::snmp::{ObjectId, SnmpValue},
    source::TrapHead,
};
use snmp2::{
    AsnReader, Error, Oid,
    asn1::{TYPE_INTEGER, TYPE_OBJECTIDENTIFIER, TYPE_OCTETSTRING, TYPE_SEQUENCE},
    snmp::{MSG_INFORM, MSG_REPORT, MSG_RESPONSE, MSG_TRAP, MSG_TRAP_V1, TYPE_COUNTER32},
};
use std::net::{IpAddr, Ipv4Addr};

/// Longest message, so that its answer fits a datagram as well.
pub(super) const LONGEST: usize = 60_000;
/// The user-based security model.
const BY_USER: i64 = 3;
/// The largest message that we say we take.
const MOST: i64 = 65_507;

/// Flags of a message.
pub(super) const AUTHENTICATED: u8 = 1;
pub(super) const PRIVATE: u8 = 2;
pub(super) const REPORTABLE: u8 = 4;

/// A message as it came.
pub(super) enum Packet<'a> {
    /// Of the versions 1 and 2c.
    OfCommunity(CommunityMessage<'a>),
    /// Of version 3.
    OfUser(UserMessage<'a>),
}

pub(super) struct CommunityMessage<'a> {
    pub version: i64,
    pub community: &'a [u8],
    body: AsnReader<'a>,
}

/// A message of version 3, to be proved.
#[derive(Clone, Copy)]
pub(super) struct UserMessage<'a> {
    pub id: i64,
    pub flags: u8,
    pub engine: &'a [u8],
    pub boots: u32,
    pub time: u32,
    pub user: &'a [u8],
    /// Where the digest stands in the packet.
    pub digest_at: usize,
    pub digest: &'a [u8],
    pub salt: &'a [u8],
    pub data: MessageData<'a>,
}

/// What a message of version 3 carries.
#[derive(Clone, Copy)]
pub(super) enum MessageData<'a> {
    /// What everybody can read.
    Plain(&'a [u8]),
    /// What is encrypted.
    Encrypted(&'a [u8]),
}

/// What a message of version 3 carries, decrypted.
pub(super) struct ScopedBody<'a> {
    pub engine: &'a [u8],
    pub context: &'a [u8],
    pub body: MessageBody<'a>,
}

/// What is told.
pub(super) enum MessageBody<'a> {
    /// By version 1.
    Head(TrapHead, Vec<(ObjectId, SnmpValue)>),
    /// By a later one.
    Objects {
        /// The request, where an answer is wanted.
        inform: Option<i64>,
        /// The objects as they came.
        raw: &'a [u8],
        objects: Vec<(ObjectId, SnmpValue)>,
    },
}

impl<'a> Packet<'a> {
    pub fn parse(bytes: &'a [u8]) -> Result<Self, Error> {
        let mut message =
            AsnReader::from_bytes(AsnReader::from_bytes(bytes).read_raw(TYPE_SEQUENCE)?);
        match message.read_asn_integer()? {
            version @ (0 | 1) => {
                let community = message.read_asn_octetstring()?;
                Ok(Self::OfCommunity(CommunityMessage { version, community, body: message }))
            }
            3 => UserMessage::parse(bytes, message).map(Self::OfUser),
            _ => Err(Error::UnsupportedVersion),
        }
    }
}

impl<'a> CommunityMessage<'a> {
    pub fn body(&self) -> Result<MessageBody<'a>, Error> {
        MessageBody::parse(self.body.clone())
    }

    /// The answer to an inform: what was told, as a response.
    pub fn answer(&self, request: i64, objects: &[u8]) -> Vec<u8> {
        let body = body(MSG_RESPONSE, request, objects);
        element(TYPE_SEQUENCE, &[&integer(self.version), &octets(self.community), &body])
    }
}

impl<'a> UserMessage<'a> {
    fn parse(packet: &'a [u8], mut message: AsnReader<'a>) -> Result<Self, Error> {
        let mut head = AsnReader::from_bytes(message.read_raw(TYPE_SEQUENCE)?);
        let (id, _most) = (head.read_asn_integer()?, head.read_asn_integer()?);
        let flags = *head.read_asn_octetstring()?.first().ok_or(Error::AsnInvalidLen)?;
        if head.read_asn_integer()? != BY_USER {
            return Err(Error::UnsupportedVersion);
        }
        let security = message.read_asn_octetstring()?;
        let mut security =
            AsnReader::from_bytes(AsnReader::from_bytes(security).read_raw(TYPE_SEQUENCE)?);
        let engine = security.read_asn_octetstring()?;
        let boots = u32::try_from(security.read_asn_integer()?)?;
        let time = u32::try_from(security.read_asn_integer()?)?;
        let user = security.read_asn_octetstring()?;
        let digest = security.read_asn_octetstring()?;
        let salt = security.read_asn_octetstring()?;
        let data = match message.peek_byte()? {
            TYPE_OCTETSTRING => MessageData::Encrypted(message.read_asn_octetstring()?),
            _ => MessageData::Plain(message.read_raw(TYPE_SEQUENCE)?),
        };
        let digest_at = digest.as_ptr().addr() - packet.as_ptr().addr();
        Ok(Self { id, flags, engine, boots, time, user, digest_at, digest, salt, data })
    }

    /// As bytes.
    pub fn build(&self) -> Vec<u8> {
        let security = element(
            TYPE_SEQUENCE,
            &[
                &octets(self.engine),
                &integer(self.boots.into()),
                &integer(self.time.into()),
                &octets(self.user),
                &octets(self.digest),
                &octets(self.salt),
            ],
        );
        let head = element(
            TYPE_SEQUENCE,
            &[&integer(self.id), &integer(MOST), &octets(&[self.flags]), &integer(BY_USER)],
        );
        let data = match self.data {
            MessageData::Plain(scoped) => scoped.to_vec(),
            MessageData::Encrypted(bytes) => octets(bytes),
        };
        element(TYPE_SEQUENCE, &[&integer(3), &head, &octets(&security), &data])
    }
}

impl<'a> ScopedBody<'a> {
    /// What stands in the sequence of a plain message.
    pub fn parse(content: &'a [u8]) -> Result<Self, Error> {
        let mut reader = AsnReader::from_bytes(content);
        let (engine, context) = (reader.read_asn_octetstring()?, reader.read_asn_octetstring()?);
        Ok(Self { engine, context, body: MessageBody::parse(reader)? })
    }

    /// What was decrypted; what follows its end fills up a block.
    pub fn parse_decrypted(plain: &'a [u8]) -> Result<Self, Error> {
        Self::parse(AsnReader::from_bytes(plain).read_raw(TYPE_SEQUENCE)?)
    }
}

/// The answer to an inform of a context: what was told, as a response.
pub(super) fn scoped_answer(of: &ScopedBody<'_>, request: i64, objects: &[u8]) -> Vec<u8> {
    scoped(of.engine, of.context, (MSG_RESPONSE, request), objects)
}

/// What tells a sender what it has to know: an object that counts.
pub(super) fn scoped_report(engine: &[u8], object: &Oid<'_>, count: u32) -> Vec<u8> {
    let object = element(
        TYPE_SEQUENCE,
        &[
            &element(TYPE_OBJECTIDENTIFIER, &[object.as_bytes()]),
            &number(TYPE_COUNTER32, count.into()),
        ],
    );
    scoped(engine, b"", (MSG_REPORT, 0), &object)
}

fn scoped(engine: &[u8], context: &[u8], (kind, request): (u8, i64), objects: &[u8]) -> Vec<u8> {
    let body = body(kind, request, objects);
    element(TYPE_SEQUENCE, &[&octets(engine), &octets(context), &body])
}

fn body(kind: u8, request: i64, objects: &[u8]) -> Vec<u8> {
    let objects = element(TYPE_SEQUENCE, &[objects]);
    element(kind, &[&integer(request), &integer(0), &integer(0), &objects])
}

/// An element by the Basic Encoding Rules (X.690, section 8.1).
fn element(kind: u8, parts: &[&[u8]]) -> Vec<u8> {
    let length: usize = parts.iter().map(|part| part.len()).sum();
    let mut made = vec![kind];
    match u8::try_from(length) {
        Ok(short) if short < 0x80 => made.push(short),
        _ => {
            let bytes = length.to_be_bytes();
            let bytes = &bytes[bytes.iter().take_while(|byte| **byte == 0).count()..];
            made.push(0x80 | u8::try_from(bytes.len()).unwrap_or(0));
            made.extend(bytes);
        }
    }
    parts.iter().for_each(|part| made.extend(*part));
    made
}

fn octets(bytes: &[u8]) -> Vec<u8> {
    element(TYPE_OCTETSTRING, &[bytes])
}

fn integer(value: i64) -> Vec<u8> {
    number(TYPE_INTEGER, value)
}

/// A number in as few bytes as it needs with its sign.
fn number(kind: u8, value: i64) -> Vec<u8> {
    let bytes = value.to_be_bytes();
    let is_more =
        |pair: &[u8]| (pair[0] == 0 && pair[1] < 0x80) || (pair[0] == 0xff && pair[1] >= 0x80);
    let more = bytes.windows(2).take_while(|pair| is_more(pair)).count();
    element(kind, &[&bytes[more..]])
}

impl<'a> MessageBody<'a> {
    fn parse(mut reader: AsnReader<'a>) -> Result<Self, Error> {
        let kind = reader.peek_byte()?;
        let mut body = AsnReader::from_bytes(reader.read_raw(kind)?);
        match kind {
            MSG_TRAP_V1 => {
                let enterprise = body.read_asn_objectidentifier()?;
                let agent = Ipv4Addr::from(body.read_snmp_ipaddress()?);
                let (generic, specific) = (body.read_asn_integer()?, body.read_asn_integer()?);
                let uptime = body.read_snmp_timeticks()?.into();
                let enterprise = object_id(&enterprise).ok_or(Error::AsnParse)?;
                let head = TrapHead { enterprise, agent, generic, specific, uptime };
                Ok(Self::Head(head, objects(body.read_raw(TYPE_SEQUENCE)?)?))
            }
            MSG_TRAP | MSG_INFORM => {
                let request = body.read_asn_integer()?;
                let (_status, _index) = (body.read_asn_integer()?, body.read_asn_integer()?);
                let raw = body.read_raw(TYPE_SEQUENCE)?;
                let inform = (kind == MSG_INFORM).then_some(request);
                Ok(Self::Objects { inform, raw, objects: objects(raw)? })
            }
            _ => Err(Error::AsnWrongType),
        }
    }
}

fn objects(raw: &[u8]) -> Result<Vec<(ObjectId, SnmpValue)>, Error> {
    let mut reader = AsnReader::from_bytes(raw);
    let mut objects = Vec::new();
    while reader.bytes_left() > 0 {
        let mut pair = AsnReader::from_bytes(reader.read_raw(TYPE_SEQUENCE)?);
        let number = pair.read_asn_objectidentifier()?;
        let number = object_id(&number).ok_or(Error::AsnParse)?;
        let value = pair.next().and_then(snmp_value).unwrap_or(SnmpValue::None);
        objects.push((number, value));
    }
    Ok(objects)
}

/// Whether an address is the same however it is written.
pub(super) fn address_bytes(peer: IpAddr) -> Vec<u8> {
    match peer.to_canonical() {
        IpAddr::V4(address) => address.octets().to_vec(),
        IpAddr::V6(address) => address.octets().to_vec(),
    }
}
