//! What becomes of a message that may be an answer: a decision, or a note of why it is none.

use crate::{
    api,
    executor::{self, answer_address},
    lmtp::{Mailroom, Reply},
    node::Node,
};
use arvok_api::DecisionState;
use arvok_core::{
    Principal,
    job::{Decided, MailAnswer},
    text::cut,
};
use arvok_store::{
    StoreError,
    outside::decisions::{self, Decision},
};

/// Longest address that is noted, in bytes.
const LONGEST_ADDRESS: usize = 200;

/// The addresses of questions.
pub(super) struct Answers<'n>(pub &'n Node);

impl Mailroom for Answers<'_> {
    const UNKNOWN: &'static str = "that is the address of no question";

    async fn knows(&self, address: &str) -> Option<bool> {
        known(self.0, address).await.ok().map(|found| found.is_some())
    }

    async fn take(&self, message: Vec<u8>, envelope: (&str, &[String])) -> Vec<Reply> {
        let (sender, recipients) = envelope;
        let answer = read(message, Some(sender)).await;
        let mut replies = Vec::new();
        for recipient in recipients {
            replies.push(take(self.0, recipient, answer.as_ref()).await);
        }
        replies
    }
}

/// The question of an address.
pub(super) async fn known(node: &Node, address: &str) -> Result<Option<Decision>, StoreError> {
    let address = address.to_ascii_lowercase();
    let id = address.split_once('+').and_then(|(_, rest)| rest.split_once('.')?.0.parse().ok());
    let Some(id) = id else { return Ok(None) };
    let found = decisions::one(&node.pools.questions, id).await?;
    // Whoever guesses learns nothing of how long it took: an address has 96 bits of chance.
    Ok(found
        .filter(|d| answer_address(node, d).is_some_and(|own| own.eq_ignore_ascii_case(&address))))
}

/// Reads a message with its envelope's sender, or what its head says of that, off the
/// workers that serve everybody: whoever sends it may have made it hard to read. None is one that
/// cannot be read.
pub(super) async fn read(message: Vec<u8>, sender: Option<&str>) -> Option<MailAnswer> {
    let sender = sender.map(str::to_owned);
    let reading =
        tokio::task::spawn_blocking(move || MailAnswer::read(&message, sender.as_deref()));
    reading.await.unwrap_or_default()
}

/// Takes a message for a recipient.
pub(super) async fn take(node: &Node, address: &str, answer: Option<&MailAnswer>) -> Reply {
    match taken(node, address, answer).await {
        Ok(reply) => reply,
        Err(e) => {
            tracing::warn!("an answer by mail was not taken: {e}");
            Reply::new("451 4.3.0", "not now, deliver it again")
        }
    }
}

async fn taken(
    node: &Node,
    address: &str,
    answer: Option<&MailAnswer>,
) -> Result<Reply, StoreError> {
    let Some(decision) = known(node, address).await? else {
        return Ok(Reply::new("550 5.1.1", Answers::UNKNOWN));
    };
    let from = answer.and_then(|answer| answer.from.as_deref()).unwrap_or_default();
    let from = cut(from, LONGEST_ADDRESS);
    let allowed: Vec<String> = serde_json::from_value(decision.by_mail.clone())?;
    let is_asked = answer.is_some_and(|answer| answer.is_from(&allowed));
    let by = if is_asked { Principal::mail(from) } else { Principal::stranger(from) };
    let pass_over = async |act: &str| {
        tracing::info!(decision = decision.id, from, "a message is no answer: {act}");
        decisions::pass_over(&node.pools.questions, &decision, &by, act).await
    };
    let Some(answer) = answer else {
        pass_over("answer.unreadable").await?;
        return Ok(Reply::new("250 2.0.0", "this cannot be read, and decides nothing"));
    };
    // Whoever answers an automatic answer, or a forged address, makes more of them.
    if let Some(why) = &answer.automatic {
        pass_over("answer.automatic").await?;
        return Ok(Reply::new("250 2.0.0", format!("{why} decides nothing")));
    }
    if !is_asked {
        pass_over("answer.stranger").await?;
        return Ok(Reply::new(
            "250 2.0.0",
            "whoever has written this is not one of those who are asked",
        ));
    }
    let choices: Vec<(String, String)> = serde_json::from_value(decision.choices.clone())?;
    let (choice, remark) = match answer.chosen(&choices) {
        Ok((choice, remark)) => (choice.to_owned(), remark),
        Err(known) => {
            pass_over("answer.unclear").await?;
            let words = format!("its first line is none of the choices: {known}");
            return Ok(Reply::new("550 5.6.0", words));
        }
    };
    let decided = Decided { choice, by: by.clone(), how: "mail".to_owned(), remark };
    // The same message may be delivered again: what was recorded of it stands.
    let is_again = |d: &Decision| {
        d.state.0 == DecisionState::Taken
            && d.choice.as_ref() == Some(&decided.choice)
            && d.decided_by.as_ref().is_some_and(|by| by.0 == decided.by)
    };
    if is_again(&decision) || executor::take_decision(node, &decision, &decided).await? {
        return Ok(Reply::new("250 2.0.0", format!("decided: {}", decided.choice)));
    }
    let now = decisions::one(&node.pools.questions, decision.id).await?.unwrap_or(decision.clone());
    if is_again(&now) {
        return Ok(Reply::new("250 2.0.0", format!("decided: {}", decided.choice)));
    }
    pass_over("answer.late").await?;
    Ok(Reply::new("550 5.6.0", api::too_late(now)))
}
