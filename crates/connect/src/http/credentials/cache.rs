//! What is kept of a credential from one request to the next, by a hash of it, since a part is
//! secret.

use std::{
    collections::{HashMap, hash_map::RandomState},
    hash::{BuildHasher, Hash},
    sync::{Mutex, PoisonError},
};

/// Credentials of which something is kept. Of a connection that is written anew again and again the
/// old ones go.
const MOST: usize = 256;

/// Something for each credential.
#[derive(Debug)]
pub(super) struct CredentialCache<T> {
    all: Mutex<HashMap<u64, T>>,
    hashing: RandomState,
}

impl<T> Default for CredentialCache<T> {
    fn default() -> Self {
        Self { all: Mutex::default(), hashing: RandomState::default() }
    }
}

impl<T: Default> CredentialCache<T> {
    /// Does something with what is kept of a credential.
    pub fn with<R>(&self, credential: impl Hash, act: impl FnOnce(&mut T) -> R) -> R {
        let of = self.hashing.hash_one(credential);
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= MOST && !all.contains_key(&of) {
            all.clear();
        }
        act(all.entry(of).or_default())
    }

    /// Takes all of it.
    pub fn take(&self) -> Vec<T> {
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        all.drain().map(|(_, one)| one).collect()
    }
}
