//! Answers that come into a mailbox, read over IMAP by every node that knows of it. Of several
//! nodes one reads at a time, and a message is marked as seen once what became of it is recorded: a
//! node that dies in between leaves it to be read again, and an answer may be taken twice.

use super::taken::{known, read, take};
use crate::{lmtp::Reply, node::Node};
use arvok_connect::{OpenMailbox, Unseen};
use arvok_store::leases;
use std::{collections::BTreeMap, time::Duration};
use tokio::time::sleep;

/// Most messages that are fetched at once, and the largest, in bytes.
const MOST_MESSAGES: usize = 20;
const MOST_BYTES: u32 = 1 << 20;
/// How often a message is marked as seen that is unseen afterwards.
const MOST_MARKS: u32 = 3;
/// The lease of whoever reads, and for how many seconds it is held: more than the longest wait, and
/// what one message may take.
const LEASE: &str = "answers by mail";
const HOLD_SECONDS: f64 = 45.0;
/// What the fault of it is noted under.
const WAY: &str = "mailbox";
/// How long the server may take for its answer to a command.
const PATIENCE: Duration = Duration::from_secs(30);
/// The longest wait for what is new, and the wait where the server does not tell of it.
const LONGEST_WAIT: Duration = Duration::from_secs(10);
const WAIT_UNTOLD: Duration = Duration::from_secs(5);
/// The wait while another node reads, or the database is away.
const WAIT_TURN: Duration = Duration::from_secs(3);
/// The wait before the mailbox is opened again, and the longest.
const WAIT: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(20));

/// How often each message was marked as seen that may be there unseen all the same: what was
/// handled is not handled again.
type TimesMarked = BTreeMap<(u32, u32), u32>;

/// Reads answers until the node stops, where its settings name a mailbox.
pub(super) async fn run(node: &Node) {
    if node.answers.mailbox.is_none() {
        return;
    }
    let mut stopping = node.stopping.clone();
    let (mut wait, mut marked) = (WAIT.0, TimesMarked::new());
    while !*stopping.borrow() {
        let ended = tokio::select! {
            // What is being handled is not marked as seen, and is read by whoever looks next.
            _ = stopping.wait_for(|stop| *stop) => break,
            ended = read_on(node, &mut wait, &mut marked) => ended,
        };
        if let Err(reason) = ended {
            let reason = format!("the mailbox: {reason}");
            if node.answers_fault.set(WAY, Some(reason.clone())) {
                tracing::error!("no answers by mail: {reason}");
            }
            // Another node may reach it.
            let _ = leases::release(&node.pools.work, LEASE, &node.name).await;
        }
        tokio::select! {
            _ = stopping.wait_for(|stop| *stop) => break,
            () = sleep(wait) => {}
        }
        wait = (wait * 2).min(WAIT.1);
    }
    let _ = leases::release(&node.pools.work, LEASE, &node.name).await;
}

/// Whether it is this node that reads now, and for a while from now on.
async fn is_its_turn(node: &Node) -> bool {
    let held = leases::hold(&node.pools.work, LEASE, &node.name, HOLD_SECONDS).await;
    held.unwrap_or_else(|e| {
        tracing::warn!("answers by mail are not read: {e}");
        false
    })
}

/// Reads what is there and what comes while it is this node's turn, for as long as the connection
/// stands.
async fn read_on(node: &Node, wait: &mut Duration, marked: &mut TimesMarked) -> Result<(), String> {
    while !is_its_turn(node).await {
        // Whoever reads now tells of its own faults.
        node.answers_fault.set(WAY, None);
        sleep(WAIT_TURN).await;
    }
    let (place, password, authorities) = node.answers.mailbox()?.ok_or("there is none")?;
    let mut mailbox =
        OpenMailbox::open(&place, &password, authorities.as_deref(), PATIENCE).await?;
    tracing::info!("answers by mail are read from {place:?}");
    while is_its_turn(node).await {
        let unseen = mailbox.unseen(MOST_MESSAGES, MOST_BYTES).await?;
        let times = |marked: &TimesMarked, one: &Unseen| {
            marked.get(&(one.uid_validity, one.uid)).copied().unwrap_or_default()
        };
        if unseen.iter().any(|one| times(marked, one) == MOST_MARKS) {
            return Err("the server does not keep that a message was seen".to_owned());
        }
        *wait = WAIT.0;
        node.answers_fault.set(WAY, None);
        if unseen.is_empty() {
            marked.clear();
            mailbox = mailbox.wait(LONGEST_WAIT, WAIT_UNTOLD).await?;
            continue;
        }
        let mut is_well = true;
        for one in unseen {
            if !is_its_turn(node).await {
                break;
            }
            let times = times(marked, &one);
            let Unseen { uid, uid_validity, message } = one;
            // One that cannot be recorded keeps none behind it waiting.
            if times == 0 && !handled(node, message).await {
                is_well = false;
                continue;
            }
            marked.insert((uid_validity, uid), times + 1);
            mailbox.see(uid).await?;
        }
        if !is_well {
            sleep(WAIT_TURN).await;
        }
    }
    mailbox.close().await;
    Ok(())
}

/// Takes a message for each question that it is for; false if it is to be read again.
async fn handled(node: &Node, message: Option<Vec<u8>>) -> bool {
    let Some(message) = message else {
        tracing::info!("a message of more than {MOST_BYTES} bytes in the mailbox is passed over");
        return true;
    };
    let Some(answer) = read(message, None).await else {
        tracing::info!("a message in the mailbox cannot be read, and is passed over");
        return true;
    };
    let mut is_known = false;
    for address in answer.recipients() {
        match known(node, address).await {
            Ok(Some(_)) => {}
            Ok(None) => continue,
            Err(e) => {
                tracing::warn!("an answer by mail was not taken: {e}");
                return false;
            }
        }
        is_known = true;
        let Reply { code, text } = take(node, address, Some(&answer)).await;
        if code.starts_with('4') {
            return false;
        }
        tracing::info!("a message in the mailbox: {text}");
    }
    if !is_known {
        tracing::info!("a message in the mailbox is for no question, and is passed over");
    }
    true
}
