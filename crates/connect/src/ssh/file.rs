//! Small files on a machine, by its SFTP subsystem. One that is written stands under another name
//! until it is whole.

use super::pool::LineHold;
use crate::driver::unsent;
use arvok_core::connector::{CallEnd, Failure};
use russh::{Channel, client::Msg};
use russh_sftp::{
    client::{RawSftpSession, error::Error},
    protocol::{FileAttributes, OpenFlags, Packet, StatusCode},
};
use std::sync::atomic::{AtomicBool, Ordering};

/// Bytes of one read or write: what every server takes.
const PIECE: usize = 32 << 10;
/// The extension by which a name is exchanged for another in one step.
const RENAME: &str = "posix-rename@openssh.com";

async fn session(channel: Channel<Msg>) -> Result<RawSftpSession, Failure> {
    let broken = |e: &dyn std::fmt::Display| unsent(format!("moves no files (SFTP): {e}"));
    channel.request_subsystem(true, "sftp").await.map_err(|e| broken(&e))?;
    let session = RawSftpSession::new(channel.into_stream());
    session.init().await.map_err(|e| broken(&e))?;
    Ok(session)
}

/// Reads a file: so much of it, and how much more there is.
pub(super) async fn download(
    (channel, _hold): (Channel<Msg>, LineHold),
    path: &str,
    at_most: u32,
) -> Result<(Vec<u8>, u64), Failure> {
    let session = session(channel).await?;
    let refused = |e: Error| refused(path, &e);
    let file =
        session.open(path, OpenFlags::READ, FileAttributes::empty()).await.map_err(refused)?.handle;
    let size = session.fstat(file.as_str()).await.map_err(refused)?.attrs.size.unwrap_or_default();
    let mut content = Vec::new();
    // One byte more tells whether there is more: not every file has the size that it says.
    let at_most = at_most as usize;
    while content.len() <= at_most {
        let want = PIECE.min(at_most + 1 - content.len()) as u32;
        match session.read(file.as_str(), content.len() as u64, want).await {
            Ok(piece) if piece.data.is_empty() => break,
            Ok(piece) => content.extend_from_slice(&piece.data),
            Err(Error::Status(status)) if status.status_code == StatusCode::Eof => break,
            Err(e) => return Err(refused(e)),
        }
    }
    let least = content.len().saturating_sub(at_most).min(1) as u64;
    content.truncate(at_most);
    let _ = session.close(file).await;
    let left_out = size.saturating_sub(content.len() as u64).max(least);
    Ok((content, left_out))
}

/// Writes a file. As soon as it may stand there, `is_sent` is true.
pub(super) async fn upload(
    (channel, _hold): (Channel<Msg>, LineHold),
    path: &str,
    content: &[u8],
    mode: Option<u32>,
    is_sent: &AtomicBool,
) -> Result<(), Failure> {
    let session = session(channel).await?;
    let mut drawn = [0; 6];
    getrandom::fill(&mut drawn).map_err(|e| unsent(format!("nothing can be drawn: {e}")))?;
    let beside = format!("{path}.{}.part", hex::encode(drawn));
    let written = write(&session, &beside, content, mode).await;
    if let Err(e) = written {
        let _ = session.remove(beside).await;
        return Err(refused(path, &e));
    }
    is_sent.store(true, Ordering::Release);
    match replace(&session, &beside, path).await {
        Ok(()) => Ok(()),
        Err(e @ Error::Status(_)) => {
            let _ = session.remove(beside).await;
            Err(refused(path, &e))
        }
        Err(e) => Err(Failure::new(CallEnd::Unknown, format!("{path}: {e}"))),
    }
}

async fn write(
    session: &RawSftpSession,
    path: &str,
    content: &[u8],
    mode: Option<u32>,
) -> Result<(), Error> {
    let flags = OpenFlags::WRITE | OpenFlags::CREATE | OpenFlags::EXCLUDE;
    let bits = FileAttributes { permissions: mode, ..FileAttributes::empty() };
    let file = session.open(path, flags, bits.clone()).await?.handle;
    for (n, piece) in content.chunks(PIECE).enumerate() {
        session.write(file.as_str(), (n * PIECE) as u64, piece.to_vec()).await?;
    }
    // What the machine masks at the opening is set then.
    if mode.is_some() {
        session.fsetstat(file.as_str(), bits).await?;
    }
    session.close(file).await?;
    Ok(())
}

/// Puts a file in the place of another. Where the machine does not know how in one step, the other
/// is removed first.
async fn replace(session: &RawSftpSession, from: &str, to: &str) -> Result<(), Error> {
    let mut data = Vec::new();
    for name in [from, to] {
        data.extend_from_slice(&u32::try_from(name.len()).unwrap_or_default().to_be_bytes());
        data.extend_from_slice(name.as_bytes());
    }
    match session.extended(RENAME, data).await? {
        Packet::Status(status) if status.status_code == StatusCode::Ok => return Ok(()),
        Packet::Status(status) if status.status_code != StatusCode::OpUnsupported => {
            return Err(Error::Status(status));
        }
        _ => {}
    }
    match session.rename(from, to).await {
        Ok(_) => Ok(()),
        Err(_) => {
            session.remove(to).await?;
            session.rename(from, to).await.map(|_| ()).map_err(|e| {
                Error::UnexpectedBehavior(format!(
                    "it is removed, and {from} is not in its place: {e}"
                ))
            })
        }
    }
}

/// The machine said no, or nothing any more: the file does not stand there.
fn refused(path: &str, e: &Error) -> Failure {
    match e {
        Error::Status(status) => {
            let why = status.status_code.to_string();
            let more = status.error_message.trim();
            let more = match more.is_empty() || more.eq_ignore_ascii_case(&why) {
                true => String::new(),
                false => format!(" ({more})"),
            };
            Failure::lasting(CallEnd::Refused, format!("{path}: {why}{more}"))
        }
        other => Failure::new(CallEnd::NotSent, format!("{path}: {other}")),
    }
}
