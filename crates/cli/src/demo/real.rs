//! What `arvok demo --real` has beside the stand-ins: this machine's own sshd and libvirtd, each at
//! a port of its own, and the library's connections to them.

use arvok_standins::{
    StandinError,
    hypervisor::{GuestsIn, Hypervisor},
    machine::Machine,
};

/// A machine and a hypervisor that are what they seem.
pub struct Real {
    /// A machine that is reached over SSH.
    pub machine: Machine,
    /// A hypervisor, where libvirt is installed.
    pub hypervisor: Option<Hypervisor>,
}

/// A connection of the library to one of them.
pub struct RealConnection {
    pub name: &'static str,
    /// Its document, and that of its connector.
    pub text: String,
    /// The private key that is shown.
    pub key: String,
}

impl Real {
    /// Starts them.
    pub fn start() -> Result<Self, StandinError> {
        let guests = GuestsIn::TestDriver;
        let hypervisor = guests.is_here().then(|| Hypervisor::scratch("demo-hosts", guests));
        Ok(Self { machine: Machine::scratch("demo")?, hypervisor: hypervisor.transpose()? })
    }

    /// The library's connections, as they lead to these.
    pub fn connections(&self) -> Result<Vec<RealConnection>, StandinError> {
        let machine = RealConnection::to(&self.machine, "yard-machines", |text| {
            text.replace("ssh://*", &format!("ssh://*:{}", self.machine.port()))
        })?;
        let mut all = vec![machine];
        if let Some(host) = &self.hypervisor {
            let base = format!("libvirt://*:{}{}", host.machine.port(), host.socket().display());
            all.push(RealConnection::to(&host.machine, "yard-hosts", |text| {
                text.replace("libvirt://*", &base)
            })?);
        }
        Ok(all)
    }
}

impl RealConnection {
    fn to(
        machine: &Machine,
        name: &'static str,
        pointed: impl Fn(&str) -> String,
    ) -> Result<Self, StandinError> {
        let files = arvok_library::files();
        let text = files.iter().find(|(file, _)| file.ends_with(name)).map(|(_, text)| text);
        let text = pointed(text.map_or("", String::as_str))
            .replace("*.skerrow.example", "127.0.0.1")
            .replace("user: arvok", &format!("user: {}", machine.user()));
        let text = format!("{text}host_keys: ['{}']\n", machine.fingerprint()?);
        Ok(Self { name, text, key: machine.key()? })
    }
}
