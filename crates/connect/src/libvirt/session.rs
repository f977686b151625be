//! A session with the libvirt of a host, by what is asked in it.

use super::{
    rpc::{Procedure, Rpc, RpcError},
    xdr::{Malformed, Reader, Writer},
};
use crate::ssh::{RemoteSocket, SocketHold};
use arvok_core::connector::libvirt::DomainState;
use russh::{ChannelStream, client::Msg};
use serde_json::Value;

/// Ways in that a libvirt may ask for before anything else.
const NOBODY_ASKED: i32 = 0;
const POLKIT: i32 = 2;

/// A session. Its line is closed when nobody has it any more.
pub(super) struct Session {
    /// The machine with its port.
    pub machine: String,
    rpc: Rpc<ChannelStream<Msg>>,
    _hold: SocketHold,
}

/// A guest, as libvirt tells it from others.
#[derive(Clone, Debug)]
pub(super) struct Domain {
    pub name: String,
    pub uuid: [u8; 16],
    id: i32,
}

impl Domain {
    fn read(read: &mut Reader<'_>) -> Result<Self, Malformed> {
        Ok(Self { name: read.text()?, uuid: read.fixed()?, id: read.int()? })
    }

    fn write(&self, to: Writer) -> Writer {
        to.text(&self.name).fixed(&self.uuid).int(self.id)
    }

    /// Begins what a procedure is given.
    pub fn args(&self) -> Writer {
        self.write(Writer::default())
    }

    pub fn uuid_text(&self) -> String {
        let hex = hex::encode(self.uuid);
        [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
    }
}

/// What is known of a guest at once.
#[derive(Clone, Copy, Debug)]
pub(super) struct DomainInfo {
    pub most_kib: u64,
    pub kib: u64,
    pub vcpus: u32,
    pub cpu_ns: u64,
}

/// Names with values: what is counted, or what is asked for.
pub(super) type Parameters = Vec<(String, Value)>;

/// The bytes of a UUID; none if a text is none.
fn uuid(text: &str) -> Option<[u8; 16]> {
    let is_uuid = text.len() == 36 && [8, 13, 18, 23].iter().all(|at| text.as_bytes()[*at] == b'-');
    let hex: String = text.chars().filter(|c| *c != '-').collect();
    if !is_uuid || hex.len() != 32 {
        return None;
    }
    hex::decode(hex).ok()?.try_into().ok()
}

fn parameter(read: &mut Reader<'_>) -> Result<(String, Value), Malformed> {
    let name = read.text()?;
    let value = match read.int()? {
        1 => read.int()?.into(),
        2 => read.unsigned()?.into(),
        3 => read.signed_hyper()?.into(),
        4 => read.hyper()?.into(),
        5 => read.double()?.into(),
        6 => (read.int()? != 0).into(),
        7 => read.text()?.into(),
        _ => return Err(Malformed),
    };
    Ok((name, value))
}

/// A parameter that is a number, or a text.
pub(super) fn parameters(all: &[(&str, Value)]) -> Writer {
    let count = u32::try_from(all.len()).unwrap_or(u32::MAX);
    all.iter().fold(Writer::default().unsigned(count), |to, (name, value)| {
        let to = to.text(name);
        match value {
            Value::String(text) => to.int(7).text(text),
            number => to.int(4).hyper(number.as_u64().unwrap_or_default()),
        }
    })
}

impl Session {
    /// Begins one on a socket: asks to be let in, and for the hypervisor that is usual there.
    pub async fn begin(socket: RemoteSocket) -> Result<Self, RpcError> {
        let RemoteSocket { machine, stream, hold } = socket;
        let mut session = Self { machine, rpc: Rpc::new(stream), _hold: hold };
        let ways = session.ask(Procedure::AuthList, Writer::default()).await?;
        let ways = Reader(&ways).list(Reader::int)?;
        if !ways.is_empty() && !ways.contains(&NOBODY_ASKED) {
            if !ways.contains(&POLKIT) {
                let why = "it wants a name and a password of its own (SASL), which is not spoken";
                return Err(RpcError::Broken(why.into()));
            }
            session.ask(Procedure::AuthPolkit, Writer::default()).await?;
        }
        // No name is that of the hypervisor that is usual there.
        let usual = Writer::default().optional_text(Some("")).unsigned(0);
        session.ask(Procedure::ConnectOpen, usual).await?;
        Ok(session)
    }

    /// Says that it is over.
    pub async fn end(mut self) {
        let _ = self.rpc.send(Procedure::ConnectClose, Writer::default()).await;
    }

    pub async fn ask(&mut self, procedure: Procedure, args: Writer) -> Result<Vec<u8>, RpcError> {
        self.rpc.call(procedure, args).await
    }

    /// Asks for something without waiting for its answer; its number.
    pub async fn begin_asking(
        &mut self,
        procedure: Procedure,
        args: Writer,
    ) -> Result<u32, RpcError> {
        self.rpc.send(procedure, args).await
    }

    /// The answer to what was asked before. Whoever stops waiting may ask for it again.
    pub async fn answer(&mut self, asked: u32) -> Result<Vec<u8>, RpcError> {
        self.rpc.answer(asked).await
    }

    /// A guest by its name, or by its UUID.
    pub async fn domain(&mut self, named: &str) -> Result<Domain, RpcError> {
        let args = Writer::default();
        let by_name = self.ask(Procedure::DomainLookupByName, args.text(named)).await;
        let came = match (by_name, uuid(named)) {
            (Err(RpcError::Said(_)), Some(uuid)) => {
                self.ask(Procedure::DomainLookupByUuid, Writer::default().fixed(&uuid)).await?
            }
            (came, _) => came?,
        };
        Ok(Domain::read(&mut Reader(&came))?)
    }

    /// The state of a guest, and why it is in it.
    pub async fn state(&mut self, of: &Domain) -> Result<(DomainState, &'static str), RpcError> {
        let came = self.ask(Procedure::DomainGetState, of.args().unsigned(0)).await?;
        let mut read = Reader(&came);
        let state = DomainState::of(read.int()?);
        Ok((state, state.reason(read.int()?)))
    }

    pub async fn info(&mut self, of: &Domain) -> Result<DomainInfo, RpcError> {
        let came = self.ask(Procedure::DomainGetInfo, of.args()).await?;
        let mut read = Reader(&came);
        let _state = read.unsigned()?;
        let (most_kib, kib) = (read.hyper()?, read.hyper()?);
        Ok(DomainInfo { most_kib, kib, vcpus: read.unsigned()?, cpu_ns: read.hyper()? })
    }

    /// What is counted of some guests, or of all if there are none.
    pub async fn statistics(
        &mut self,
        of: Option<&Domain>,
        what: u32,
    ) -> Result<Vec<(Domain, Parameters)>, RpcError> {
        let args = match of {
            None => Writer::default().unsigned(0),
            Some(domain) => domain.write(Writer::default().unsigned(1)),
        };
        let args = args.unsigned(what).unsigned(0);
        let came = self.ask(Procedure::ConnectGetAllDomainStats, args).await?;
        let one = |read: &mut Reader<'_>| Ok((Domain::read(read)?, read.list(parameter)?));
        Ok(Reader(&came).list(one)?)
    }

    /// The description of a guest, in XML; as it is started the next time, or as it is.
    pub async fn definition(&mut self, of: &Domain, is_next: bool) -> Result<Vec<u8>, RpcError> {
        let flags = if is_next { 2 } else { 0 };
        let came = self.ask(Procedure::DomainGetXmlDesc, of.args().unsigned(flags)).await?;
        Ok(Reader(&came).bytes()?.to_vec())
    }

    /// How far a long act on a guest has come: its kind, and what is counted of it.
    pub async fn progress(&mut self, of: &Domain) -> Result<(i32, Parameters), RpcError> {
        let came = self.ask(Procedure::DomainGetJobStats, of.args().unsigned(0)).await?;
        progress(&came)
    }

    /// How large a disk is, in bytes.
    pub async fn disk_bytes(&mut self, of: &Domain, disk: &str) -> Result<u64, RpcError> {
        let args = of.args().text(disk).unsigned(0);
        let came = self.ask(Procedure::DomainGetBlockInfo, args).await?;
        let mut read = Reader(&came);
        let _allocated = read.hyper()?;
        Ok(read.hyper()?)
    }

    /// The names of a guest's snapshots.
    pub async fn snapshots(&mut self, of: &Domain) -> Result<Vec<String>, RpcError> {
        let args = of.args().int(1).unsigned(0);
        let came = self.ask(Procedure::DomainListAllSnapshots, args).await?;
        let one = |read: &mut Reader<'_>| {
            let name = read.text()?;
            Domain::read(read)?;
            Ok(name)
        };
        Ok(Reader(&came).list(one)?)
    }

    /// The host's name, its model, processors, memory and free memory in bytes.
    pub async fn host(&mut self) -> Result<HostInfo, RpcError> {
        let name = self.ask(Procedure::ConnectGetHostname, Writer::default()).await?;
        let name = Reader(&name).text()?;
        let came = self.ask(Procedure::NodeGetInfo, Writer::default()).await?;
        let mut read = Reader(&came);
        let mut model = String::new();
        for _ in 0..32 {
            let c = char::from_u32(read.unsigned()? & 0xff).unwrap_or('?');
            model.extend((c != '\0').then_some(c));
        }
        let (kib, processors) = (read.hyper()?, read.int()?);
        let free = self.ask(Procedure::NodeGetFreeMemory, Writer::default()).await?;
        Ok(HostInfo { name, model, processors, kib, free_bytes: Reader(&free).hyper()? })
    }

    /// Whether a guest stays defined when it is off.
    pub async fn is_persistent(&mut self, of: &Domain) -> Result<bool, RpcError> {
        let came = self.ask(Procedure::DomainIsPersistent, of.args()).await?;
        Ok(Reader(&came).int()? != 0)
    }

    /// The version of the hypervisor: 7.2.22 is 7002022.
    pub async fn version(&mut self) -> Result<u64, RpcError> {
        let came = self.ask(Procedure::ConnectGetVersion, Writer::default()).await?;
        Ok(Reader(&came).hyper()?)
    }
}

/// What is known of a host.
#[derive(Clone, Debug)]
pub(super) struct HostInfo {
    pub name: String,
    pub model: String,
    pub processors: i32,
    pub kib: u64,
    pub free_bytes: u64,
}

/// How far a long act has come, as it is answered.
pub(super) fn progress(came: &[u8]) -> Result<(i32, Parameters), RpcError> {
    let mut read = Reader(came);
    let kind = read.int()?;
    Ok((kind, read.list(parameter)?))
}

/// A snapshot of a guest, as procedures are given it.
pub(super) fn snapshot(name: &str, of: &Domain) -> Writer {
    of.write(Writer::default().text(name))
}
