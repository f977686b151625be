//! Room for those who follow changes: so many at once, so that connections are left for alerts; so
//! many of one caller, and some of it for admins alone, so that nobody keeps out whoever has to put
//! things right.

use arvok_api::Who;
use arvok_core::Role;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// Event streams that may be open at once on a node.
const MOST: usize = 256;
/// Those of one token.
const OF_ONE: usize = 24;
/// Those that are left to admins.
const FOR_ADMINS: usize = 16;

/// Who follows, by the names of their tokens.
#[derive(Clone, Debug, Default)]
pub(crate) struct Followers(Arc<Mutex<BTreeMap<String, usize>>>);

/// The place of one who follows, until it is dropped.
#[derive(Debug)]
pub(crate) struct Place {
    followers: Followers,
    name: String,
}

impl Followers {
    fn open(&self) -> MutexGuard<'_, BTreeMap<String, usize>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A place for one more; none if there is no room for this caller.
    pub fn join(&self, who: &Who) -> Option<Place> {
        let mut open = self.open();
        let all: usize = open.values().sum();
        let most = if who.role == Role::Admin { MOST } else { MOST - FOR_ADMINS };
        let own = open.get(&who.name).copied().unwrap_or(0);
        if all >= most || own >= OF_ONE {
            return None;
        }
        open.insert(who.name.clone(), own + 1);
        Some(Place { followers: self.clone(), name: who.name.clone() })
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut open = self.followers.open();
        match open.get_mut(&self.name) {
            Some(n) if *n > 1 => *n -= 1,
            _ => _ = open.remove(&self.name),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn who(name: &str, role: Role) -> Who {
        Who { name: name.into(), role, automate: Default::default() }
    }

    #[test]
    fn one_caller_has_so_many_places_and_admins_have_some_of_their_own() {
        let followers = Followers::default();
        let kim = who("kim", Role::Viewer);
        let mut places: Vec<Place> = std::iter::from_fn(|| followers.join(&kim)).collect();
        assert_eq!(places.len(), OF_ONE);
        for n in 0.. {
            let Some(place) = followers.join(&who(&format!("viewer-{n}"), Role::Viewer)) else {
                break;
            };
            places.push(place);
        }
        assert_eq!(places.len(), MOST - FOR_ADMINS);
        let admin = followers.join(&who("admin", Role::Admin));
        assert!(admin.is_some(), "an admin gets in all the same");
        places.clear();
        drop(admin);
        assert!(followers.open().is_empty(), "each leaves its place");
        assert!(followers.join(&kim).is_some());
    }
}
