//! What can go wrong with the store, and what follows from it.

use sea_orm::{DbErr, RuntimeErr, sqlx};

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database refused or is not there.
    #[error("the database: {0}")]
    Database(#[from] DbErr),
    /// A row does not have the expected form.
    #[error("a stored record cannot be read: {0}")]
    Record(#[from] serde_json::Error),
    /// Another claim has taken the job over.
    #[error("the job is held by another claim by now")]
    ClaimLost,
    /// Another job on the same target has begun meanwhile; nothing was claimed.
    #[error("another job on its target has begun meanwhile")]
    Behind,
    /// A name is taken.
    #[error("the name `{0}` is taken")]
    Taken(String),
    /// There are as many as there may be.
    #[error("there are {1} {0}, and no more are kept; remove some first")]
    TooMany(&'static str, i64),
    /// The name of a token that was revoked.
    #[error("`{0}` was the name of a token that is revoked; it is not made again, take another")]
    Revoked(String),
    /// More has been published than the caller knows of.
    #[error("the definitions have changed: this is generation {0} by now")]
    Stale(i64),
    /// Others changed what was needed again and again.
    #[error("{0} never keep still")]
    Contended(&'static str),
    /// A newer release has made of the database what this one cannot work with; its latest
    /// migration.
    #[error(
        "the database was brought to `{0}` by a newer release, with which this one cannot work any \
        more; start that release, \
        or restore the backup of before"
    )]
    Ahead(String),
    /// What was done beside did not come to its end.
    #[error("{0} was broken off")]
    BrokenOff(&'static str),
}

/// What an error says about another try.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Class {
    /// Somebody was in the way: the same may well succeed at once.
    Passing,
    /// The database cannot be worked with at the moment.
    Down,
    /// The same will fail again.
    Lasting,
}

impl StoreError {
    /// What the error says about another try, by its SQLSTATE (PostgreSQL, appendix A), whatever
    /// the language of the server's messages.
    pub fn class(&self) -> Class {
        let e = match self {
            Self::Database(e) => e,
            Self::Contended(_) => return Class::Down,
            _ => return Class::Lasting,
        };
        match e {
            DbErr::Conn(_) | DbErr::ConnectionAcquire(_) => return Class::Down,
            _ => {}
        }
        match runtime(e) {
            Some(sqlx::Error::Database(e)) => of_state(&e.code().unwrap_or_default()),
            Some(
                sqlx::Error::Decode(_) | sqlx::Error::ColumnDecode { .. } | sqlx::Error::Encode(_),
            ) => Class::Lasting,
            Some(_) => Class::Down,
            None => Class::Lasting,
        }
    }

    /// Whether the same transaction may well succeed when it is tried again.
    pub fn is_passing(&self) -> bool {
        self.class() == Class::Passing
    }

    /// Whether a value was at fault: a character, a number or a time that cannot be stored.
    pub fn is_bad_data(&self) -> bool {
        matches!(self, Self::Database(e) if state(e).is_some_and(|s| s.starts_with("22")))
    }

    /// Whether a unique key was taken by somebody else.
    pub fn is_duplicate(&self) -> bool {
        matches!(self, Self::Database(e) if state(e).as_deref() == Some("23505"))
    }
}

fn of_state(state: &str) -> Class {
    match state {
        // Serialization failure, deadlock, unique key taken at the same moment, lock not available.
        "40001" | "40P01" | "23505" | "55P03" => Class::Passing,
        // Connection lost, not enough resources, cancelled or shut down by an operator, too slow; a
        // standby, which only reads, as one meets in a failover. The last: a number for which there
        // is no table yet.
        s if ["08", "53", "57", "58", "25P03", "25006", "23514"]
            .iter()
            .any(|class| s.starts_with(class)) =>
        {
            Class::Down
        }
        _ => Class::Lasting,
    }
}

fn runtime(e: &DbErr) -> Option<&sqlx::Error> {
    match e {
        DbErr::Exec(RuntimeErr::SqlxError(e)) | DbErr::Query(RuntimeErr::SqlxError(e)) => Some(e),
        _ => None,
    }
}

fn state(e: &DbErr) -> Option<String> {
    match runtime(e)? {
        sqlx::Error::Database(e) => e.code().map(|c| c.into_owned()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn states_say_whether_another_try_helps() {
        for state in ["40001", "40P01", "23505"] {
            assert_eq!(of_state(state), Class::Passing, "{state}");
        }
        for state in
            ["57P01", "57P03", "57014", "08006", "53100", "53300", "25P03", "25006", "23514"]
        {
            assert_eq!(of_state(state), Class::Down, "{state}");
        }
        for state in ["22021", "22P05", "54000", "42601"] {
            assert_eq!(of_state(state), Class::Lasting, "{state}");
        }
    }
}
