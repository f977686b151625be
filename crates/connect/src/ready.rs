//! A connection as it is used: with its address and its secrets, which whoever makes the call
//! opens.

use crate::{JumpHost, LiveOutput, TrustedKeys, Way};
use arvok_core::{
    Catalog,
    connector::{Connection, Connector, Opened, Session},
    expr::Template,
};
use std::{collections::BTreeMap, time::Duration};

/// What connections are made ready with.
pub struct Opening<'p, 'f> {
    /// The connections and their connectors.
    pub catalog: &'p Catalog,
    /// The keys that were trusted, by connection.
    pub trusted: &'p BTreeMap<String, TrustedKeys>,
    /// Fills a template of the connection of a name: with its secrets and the settings.
    pub fill: &'f (dyn Fn(&str, &Template) -> Result<String, String> + Sync),
}

impl std::fmt::Debug for Opening<'_, '_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Opening")
    }
}

/// A connection that is ready for calls.
pub struct Ready<'p> {
    connection: &'p Connection,
    trusted: Option<&'p TrustedKeys>,
    /// The base address.
    pub base: String,
    credential: Option<Opened>,
    session: Option<&'p Session>,
    authorities: Option<String>,
    jump: Option<Box<Self>>,
}

impl std::fmt::Debug for Ready<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.connection.name)
    }
}

impl<'p> Ready<'p> {
    /// Opens what a connection needs.
    ///
    /// # Errors
    /// What is missing here.
    pub fn new(opening: &Opening<'p, '_>, connection: &'p Connection) -> Result<Self, String> {
        let fill = |template: &Template| (opening.fill)(&connection.name, template);
        let credential = connection.credential.as_ref().map(|c| c.open(fill)).transpose();
        let authorities = connection.authorities.as_ref().map(fill).transpose();
        // A jump host has none itself: that is seen before it is published, and whatever stands
        // here, this ends.
        let jump = connection.jump.as_ref().map(|name| {
            let (jump, _) = opening
                .catalog
                .get::<Connection>(name)
                .filter(|(jump, _)| jump.jump.is_none())
                .ok_or_else(|| format!("its jump host: there is no connection `{name}` to one"))?;
            let jump =
                Self::new(opening, jump).map_err(|e| format!("its jump host `{name}`: {e}"))?;
            Ok::<_, String>(Box::new(jump))
        });
        let connector = opening.catalog.get::<Connector>(&connection.connector);
        Ok(Self {
            connection,
            jump: jump.transpose()?,
            trusted: opening.trusted.get(&connection.name),
            base: fill(&connection.base)?,
            credential: credential?,
            session: connector.and_then(|(connector, _)| connector.session.as_ref()),
            authorities: authorities?,
        })
    }

    /// The way of one request, which may take so long.
    pub fn way(&self, timeout: Duration) -> Way<'_> {
        Way {
            live: LiveOutput::NOBODY,
            trace: None,
            base: &self.base,
            credential: self.credential.as_ref(),
            session: self.session,
            authorities: self.authorities.as_deref(),
            hosts: &self.connection.hosts,
            host_keys: &self.connection.host_keys,
            trusted: self.trusted,
            jump: self.jump.as_ref().map(|jump| JumpHost {
                base: &jump.base,
                credential: jump.credential.as_ref(),
                host_keys: &jump.connection.host_keys,
                trusted: jump.trusted,
            }),
            timeout,
        }
    }
}
