//! What is made up to see what would follow: an alert that somebody sent to try a rule, and all
//! that comes of it. What a trial is kept apart from stands where each of these is: its tallies
//! beside [`crate::rule`], what its jobs leave undone in [`crate::job`].

crate::words! {
    /// How far a trial may go.
    pub enum Trial("kind of trial") {
        /// Its jobs look, and send nothing that changes anything.
        Dry = "dry",
        /// Its jobs act as those of any alert.
        Acting = "acting",
    }
}

impl Trial {
    /// What the keys begin with of what rules remember of trials: no key of what is real does.
    pub fn key_prefix(self) -> String {
        format!("{self} trial ")
    }

    /// Whether what is remembered under a key is that of trials.
    pub fn of_key(key: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|trial| key.starts_with(&trial.key_prefix()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_tells_whether_it_is_of_trials() {
        let of = |key: &str| Trial::of_key(key);
        assert_eq!(of(&format!("{}[1]", Trial::Dry.key_prefix())), Some(Trial::Dry));
        assert_eq!(of(&format!("{}[1]", Trial::Acting.key_prefix())), Some(Trial::Acting));
        assert_eq!(of("[\"dry trial \"]"), None, "a key of what is real is a list");
    }
}
