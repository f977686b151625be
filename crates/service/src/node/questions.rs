//! Room for what people ask and what expressions are evaluated for: so much at once, one thing of
//! each caller, and some of it for admins alone, so that nobody keeps out whoever has to put things
//! right.

use arvok_api::Who;
use arvok_core::Role;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError, Weak},
};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Questions that are answered at once.
const MOST: usize = 2;
/// What is left to admins beside these.
const FOR_ADMINS: usize = 1;

/// The room.
#[derive(Debug)]
pub(crate) struct Questions {
    all: Arc<Semaphore>,
    admins: Arc<Semaphore>,
    /// Of each caller who asks something, by the names of their tokens.
    own: Mutex<BTreeMap<String, Weak<Semaphore>>>,
}

/// The place of a question, until it is answered.
#[derive(Debug)]
pub(crate) struct QuestionPermit {
    _own: OwnedSemaphorePermit,
    _place: OwnedSemaphorePermit,
}

impl Default for Questions {
    fn default() -> Self {
        let room = |most| Arc::new(Semaphore::new(most));
        Self { all: room(MOST), admins: room(FOR_ADMINS), own: Mutex::default() }
    }
}

impl Questions {
    /// Waits for a place; none when the node stops.
    pub async fn place(&self, who: &Who) -> Option<QuestionPermit> {
        let own = self.questions_of(&who.name).acquire_owned().await.ok()?;
        let all = Arc::clone(&self.all).acquire_owned();
        let place = match who.role {
            Role::Admin => tokio::select! {
                place = all => place.ok()?,
                place = Arc::clone(&self.admins).acquire_owned() => place.ok()?,
            },
            _ => all.await.ok()?,
        };
        Some(QuestionPermit { _own: own, _place: place })
    }

    fn questions_of(&self, name: &str) -> Arc<Semaphore> {
        let mut own = self.own.lock().unwrap_or_else(PoisonError::into_inner);
        own.retain(|_, asks| asks.strong_count() > 0);
        if let Some(asks) = own.get(name).and_then(Weak::upgrade) {
            return asks;
        }
        let asks = Arc::new(Semaphore::new(1));
        own.insert(name.to_owned(), Arc::downgrade(&asks));
        asks
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::FutureExt;

    fn who(name: &str, role: Role) -> Who {
        Who { name: name.into(), role, automate: Default::default() }
    }

    #[tokio::test]
    async fn a_caller_has_one_place_and_admins_have_one_that_nobody_takes() {
        let questions = Questions::default();
        let now = |who: Who| questions.place(&who).now_or_never().flatten();
        let first = now(who("kim", Role::Viewer)).expect("a place");
        assert!(now(who("kim", Role::Viewer)).is_none(), "one at once");
        let _second = now(who("pat", Role::Author)).expect("another's");
        assert!(now(who("lee", Role::Viewer)).is_none(), "all are taken");
        let _third = now(who("root", Role::Admin)).expect("an admin's");
        drop(first);
        assert!(now(who("lee", Role::Viewer)).is_some());
        assert!(
            questions.own.lock().expect("nobody panicked").len() <= 3,
            "who asks nothing more is forgotten"
        );
    }
}
