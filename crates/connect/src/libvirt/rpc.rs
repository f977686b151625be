//! libvirt's remote protocol: calls with numbers, whose answers come in any order, among messages
//! that nobody has asked for.

use super::xdr::{Malformed, Reader, Writer};
use arvok_core::connector::libvirt::LibvirtError;
use std::collections::HashMap;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};

/// The program, and its version.
const PROGRAM: u32 = 0x2000_8086;
const VERSION: u32 = 1;
/// Bytes of the length and the header of a message.
const HEADER: usize = 28;
/// Longest message that is read, in bytes; libvirt's own are up to 32 MiB, where a host has
/// thousands of guests.
const MAX_MESSAGE: usize = 16 << 20;
/// Most answers that wait until they are asked for.
const MAX_WAITING: usize = 16;
const CALL: i32 = 0;
const REPLY: i32 = 1;
const OK: i32 = 0;

/// The procedures that are called.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Procedure {
    ConnectOpen = 1,
    ConnectClose = 2,
    ConnectGetVersion = 4,
    NodeGetInfo = 6,
    DomainGetXmlDesc = 14,
    DomainGetInfo = 16,
    DomainLookupByName = 23,
    DomainLookupByUuid = 24,
    DomainReboot = 27,
    DomainResume = 28,
    DomainSuspend = 34,
    ConnectGetHostname = 59,
    AuthList = 66,
    AuthPolkit = 70,
    NodeGetFreeMemory = 102,
    DomainIsPersistent = 151,
    DomainAbortJob = 164,
    DomainSnapshotCreateXml = 185,
    DomainSnapshotGetXmlDesc = 186,
    DomainSnapshotLookupByName = 189,
    DomainRevertToSnapshot = 192,
    DomainSnapshotDelete = 193,
    DomainGetBlockInfo = 194,
    DomainCreateWithFlags = 196,
    DomainSetVcpusFlags = 199,
    DomainGetVcpusFlags = 200,
    DomainSetMemoryFlags = 204,
    DomainGetState = 212,
    DomainDestroyFlags = 234,
    DomainReset = 245,
    DomainBlockResize = 251,
    DomainShutdownFlags = 258,
    DomainListAllSnapshots = 274,
    DomainGetJobStats = 298,
    DomainMigratePerform3Params = 305,
    ConnectGetAllDomainStats = 344,
}

/// Why a call gave nothing.
#[derive(Debug)]
pub(super) enum RpcError {
    /// libvirt says why.
    Said(LibvirtError),
    /// The line was cut, or what came on it is not libvirt's protocol.
    Broken(String),
}

impl From<Malformed> for RpcError {
    fn from(malformed: Malformed) -> Self {
        Self::Broken(malformed.to_string())
    }
}

type Answered = Result<Vec<u8>, RpcError>;

/// A line to a libvirt.
pub(super) struct Rpc<S> {
    stream: S,
    /// What has come and is not read yet.
    came: Vec<u8>,
    serial: u32,
    /// Answers that came before they were asked for.
    waiting: HashMap<u32, Answered>,
}

/// One answer, by the number of its call.
struct Answer {
    serial: u32,
    answered: Answered,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Rpc<S> {
    pub fn new(stream: S) -> Self {
        Self { stream, came: Vec::new(), serial: 0, waiting: HashMap::new() }
    }

    /// Sends a call; its number.
    pub async fn send(&mut self, procedure: Procedure, args: Writer) -> Result<u32, RpcError> {
        self.serial = self.serial.wrapping_add(1);
        let message = message(procedure, self.serial, args);
        let sent = async {
            self.stream.write_all(&message).await?;
            self.stream.flush().await
        };
        sent.await.map_err(|e| RpcError::Broken(e.to_string()))?;
        Ok(self.serial)
    }

    /// The answer to a call. Whoever stops waiting for it may ask for it again.
    pub async fn answer(&mut self, serial: u32) -> Answered {
        loop {
            if let Some(answered) = self.waiting.remove(&serial) {
                return answered;
            }
            while let Some(message) = next_message(&mut self.came)? {
                let Some(answer) = read(&message)? else { continue };
                if answer.serial == serial {
                    return answer.answered;
                }
                if self.waiting.len() >= MAX_WAITING {
                    return Err(RpcError::Broken("it answers what nobody has asked".into()));
                }
                self.waiting.insert(answer.serial, answer.answered);
            }
            match self.stream.read_buf(&mut self.came).await {
                Ok(0) => return Err(RpcError::Broken("the line was cut".into())),
                Ok(_) => {}
                Err(e) => return Err(RpcError::Broken(e.to_string())),
            }
        }
    }

    /// Calls, and waits for the answer.
    pub async fn call(&mut self, procedure: Procedure, args: Writer) -> Answered {
        let serial = self.send(procedure, args).await?;
        self.answer(serial).await
    }
}

fn message(procedure: Procedure, serial: u32, Writer(args): Writer) -> Vec<u8> {
    let length = u32::try_from(HEADER + args.len()).unwrap_or(u32::MAX);
    let header = Writer::default()
        .unsigned(length)
        .unsigned(PROGRAM)
        .unsigned(VERSION)
        .int(procedure as i32)
        .int(CALL)
        .unsigned(serial)
        .int(OK);
    [header.0, args].concat()
}

/// Takes the next whole message from what has come.
fn next_message(came: &mut Vec<u8>) -> Result<Option<Vec<u8>>, RpcError> {
    let Some(length) = came.first_chunk().map(|length| u32::from_be_bytes(*length) as usize) else {
        return Ok(None);
    };
    if !(HEADER..=MAX_MESSAGE).contains(&length) {
        return Err(RpcError::Broken(format!(
            "a message of {length} bytes came; from {HEADER} to {MAX_MESSAGE} are taken"
        )));
    }
    if came.len() < length {
        return Ok(None);
    }
    let rest = came.split_off(length);
    Ok(Some(std::mem::replace(came, rest)))
}

/// Reads a message; none if it answers nothing.
fn read(message: &[u8]) -> Result<Option<Answer>, RpcError> {
    let mut read = Reader(message);
    let (_length, program, version) = (read.unsigned()?, read.unsigned()?, read.unsigned()?);
    let (_procedure, kind) = (read.int()?, read.int()?);
    let (serial, status) = (read.unsigned()?, read.int()?);
    if program != PROGRAM || kind != REPLY {
        return Ok(None);
    }
    if version != VERSION {
        return Err(RpcError::Broken(format!("it speaks version {version} of the protocol")));
    }
    let answered = match status {
        OK => Ok(read.0.to_vec()),
        _ => Err(RpcError::Said(error(read)?)),
    };
    Ok(Some(Answer { serial, answered }))
}

fn error(mut read: Reader<'_>) -> Result<LibvirtError, Malformed> {
    let (code, _domain) = (read.int()?, read.int()?);
    let message = read.optional_text()?.unwrap_or_else(|| format!("error {code}"));
    Ok(LibvirtError { code, message })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use tokio::io::duplex;

    fn answer(serial: u32, status: i32, Writer(body): Writer) -> Vec<u8> {
        let length = u32::try_from(HEADER + body.len()).expect("is short");
        let header = Writer::default().unsigned(length).unsigned(PROGRAM).unsigned(VERSION);
        let header = header.int(16).int(REPLY).unsigned(serial).int(status);
        [header.0, body].concat()
    }

    #[tokio::test]
    async fn answers_are_told_apart_whatever_comes_between_them() {
        let (ours, mut theirs) = duplex(1 << 16);
        let mut rpc = Rpc::new(ours);
        let first = rpc.send(Procedure::DomainGetInfo, Writer::default()).await.expect("is sent");
        let second = rpc.send(Procedure::DomainGetState, Writer::default()).await.expect("is sent");
        let event = {
            let mut event = answer(0, OK, Writer::default().int(7));
            event[16..20].copy_from_slice(&2_i32.to_be_bytes());
            event
        };
        let error = Writer::default().int(42).int(10).optional_text(Some("no such guest"));
        let said = [event, answer(second, OK, Writer::default().int(5)), answer(first, 1, error)];
        theirs.write_all(&said.concat()).await.expect("is heard");
        let RpcError::Said(error) = rpc.answer(first).await.expect_err("an error") else {
            panic!("it says why");
        };
        assert_eq!((error.code, error.message.as_str()), (42, "no such guest"));
        assert_eq!(rpc.answer(second).await.expect("an answer"), [0, 0, 0, 5]);
        drop(theirs);
        assert!(matches!(rpc.answer(9).await, Err(RpcError::Broken(_))));
    }

    proptest! {
        #[test]
        fn whatever_comes_ends(came: Vec<u8>) {
            let runtime = tokio::runtime::Builder::new_current_thread().build().expect("runs");
            runtime.block_on(async {
                let (ours, mut theirs) = duplex(1 << 16);
                theirs.write_all(&came).await.expect("is heard");
                drop(theirs);
                let mut rpc = Rpc::new(ours);
                prop_assert!(rpc.answer(1).await.is_err());
                Ok(())
            })?;
        }

        #[test]
        fn an_answer_with_anything_in_it_is_read(body: Vec<u8>, status: i32) {
            let message = answer(1, status, Writer(body));
            if let Ok(Some(answer)) = read(&message) {
                prop_assert_eq!(answer.serial, 1);
            }
        }
    }
}
