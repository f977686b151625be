//! What `demo` and `standin` take.

use clap::{Args as ClapArgs, Subcommand, ValueEnum};

/// One of the demo's scenes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Scene {
    /// A booking disk fills in the night
    DiskFills,
    /// A kiosk's VM is switched off by accident
    VmSwitchedOff,
    /// A kiosk's VM is switched off on purpose, and muted beforehand
    VmMaintained,
    /// A hypervisor host runs out of memory
    HostPressed,
    /// Somebody asks which versions run in the yard
    VersionsAsked,
    /// The night's fares wait for their database
    FaresWait,
    /// A release of the booking pages is faulty
    ReleaseFails,
    /// A gate kiosk is made, and another runs out of paper
    KioskMade,
    /// Ticket mails pile up
    MailsPileUp,
    /// New fares are turned on step by step
    FaresRollOut,
    /// A kiosk's page is wrong and a VM's processors are busy: one chain, two remedies
    LoopCloses,
    /// The status checks of the web site ask for three remedies
    SiteChecked,
    /// A port of a pier's switch is down, and only a runner there reaches it
    PortDown,
    /// A timetable worker is taken away
    WorkerLeaves,
    /// A whole chain is tried with an alert that somebody made up
    ChainTried,
    /// Machines are switched off at once: all is halted, then a guard lets one begin at a time
    StormGuarded,
    /// A remedy is declined by a person, and one is at its ceiling
    RemedyDeclined,
    /// A step does not bear and is taken back
    ChangeUndone,
    /// A remedy is at its ceiling, and a person is given the work
    HandedOver,
    /// A yard is out of balance: off by default, a right, a policy, a plan
    YardUneven,
    /// A remedy is proposed, and the crew that owns the rule is told
    CrewTold,
    /// A unit has failed on a machine that is reached over SSH; with --real
    UnitFails,
    /// A guest is stopped, given more memory and started, over libvirt; with --real
    GuestResized,
}

impl Scene {
    /// In the order in which they are played.
    pub const ALL: [Self; 21] = [
        Self::DiskFills,
        Self::VmSwitchedOff,
        Self::VmMaintained,
        Self::HostPressed,
        Self::VersionsAsked,
        Self::FaresWait,
        Self::ReleaseFails,
        Self::KioskMade,
        Self::MailsPileUp,
        Self::FaresRollOut,
        Self::LoopCloses,
        Self::SiteChecked,
        Self::PortDown,
        Self::WorkerLeaves,
        Self::ChainTried,
        Self::StormGuarded,
        Self::RemedyDeclined,
        Self::ChangeUndone,
        Self::HandedOver,
        Self::YardUneven,
        Self::CrewTold,
    ];

    /// What needs this machine's own servers.
    pub const REAL: [Self; 2] = [Self::UnitFails, Self::GuestResized];
}

#[derive(Debug, Subcommand)]
pub enum Standin {
    /// A yard of hypervisors with its monitor
    Yard {
        /// The port of loopback
        #[arg(long, default_value_t = 7401)]
        port: u16,
        /// What callers must show
        #[arg(long, env = "ARVOK_YARD_TOKEN", default_value = "yard", hide_env_values = true)]
        token: String,
        /// Where its monitor posts
        #[arg(long, value_name = "URL", requires = "report_token")]
        report_to: Option<String>,
        /// What the monitor shows there
        #[arg(long, env = "ARVOK_YARD_REPORT_TOKEN", hide_env_values = true)]
        report_token: Option<String>,
    },
    /// A desk that releases services in versions
    Releases {
        /// The port of loopback
        #[arg(long, default_value_t = 7403)]
        port: u16,
        /// What callers must show
        #[arg(long, env = "ARVOK_RELEASES_TOKEN", default_value = "desk", hide_env_values = true)]
        token: String,
        /// Where its watch posts
        #[arg(long, value_name = "URL", requires = "report_token")]
        report_to: Option<String>,
        /// What the watch shows there
        #[arg(long, env = "ARVOK_RELEASES_REPORT_TOKEN", hide_env_values = true)]
        report_token: Option<String>,
    },
    /// A board that is sent events and shows those whose signature is good
    Board {
        /// The port of loopback
        #[arg(long, default_value_t = 7404)]
        port: u16,
        /// What whoever reads it must show
        #[arg(long, env = "ARVOK_BOARD_TOKEN", default_value = "board", hide_env_values = true)]
        token: String,
        /// The key that events are signed with; from `arvok secret make`
        #[arg(long, env = "ARVOK_BOARD_KEY", hide_env_values = true)]
        key: String,
    },
    /// A machine that is reached over SSH: the sshd of this one, with keys of its own
    #[command(
        after_help = "Lets in whoever runs it, with the private key `user` of its folder, as \
the user who runs it; needs
Debian's openssh-server and openssh-client. What runs over it runs on this machine, but for its \
units: `systemctl`,
`journalctl` and `sudo` of its folder `bin` come first in the path, and know those of its folder \
`units`, such as
booking.service. Write `failed` into a unit's `state` and it has failed; with `start` in its \
`breaks` no restart helps, with
anything else it falls over again and again."
    )]
    Machine {
        /// The port of loopback
        #[arg(long, default_value_t = 7409)]
        port: u16,
        /// Its folder, which is emptied: its keys and its record
        #[arg(long, default_value = "machine", value_name = "DIR")]
        folder: std::path::PathBuf,
    },
    /// A network device that is reached over NETCONF: Debian's netconfd behind an sshd, with keys
    /// of its own
    #[command(
        after_help = "Lets in whoever runs it, with the private key `user` of its folder; needs \
Debian's netconfd,
openssh-server and openssh-client. It keeps the configuration of its interfaces (RFC 8343) and has \
none."
    )]
    Device {
        /// The port of loopback
        #[arg(long, default_value_t = 7410)]
        port: u16,
        /// The folder of its keys, which is emptied
        #[arg(long, default_value = "device", value_name = "DIR")]
        folder: std::path::PathBuf,
    },
    /// A hypervisor that is reached over SSH: Debian's libvirtd behind an sshd, with keys and
    /// guests of its own
    #[command(
        after_help = "Lets in whoever runs it, with the private key `user` of its folder; needs \
Debian's libvirt-daemon,
libvirt-clients, openssh-server and openssh-client. libvirt listens \
at `socket` there. Its
guests are kept by libvirt's test driver, and nothing runs; with --qemu they run, which needs \
qemu-system-x86 and
qemu-utils as well. They go with it."
    )]
    Hypervisor {
        /// The port of loopback
        #[arg(long, default_value_t = 7411)]
        port: u16,
        /// The folder of its keys and its socket, which is emptied
        #[arg(long, default_value = "hypervisor", value_name = "DIR")]
        folder: std::path::PathBuf,
        /// Runs the guests in QEMU
        #[arg(long)]
        qemu: bool,
    },
    /// A switch with four ports, over RESTCONF, and over NETCONF behind an sshd with keys of its
    /// own; tells of ports that are down
    #[command(
        after_help = "Over NETCONF it lets in whoever runs it, with the private key `user` of its \
folder; that needs Debian's
openssh-server and openssh-client. A port that was shut down for errors comes back when it is \
disabled and enabled again."
    )]
    Switch {
        #[command(flatten)]
        told: WatchedPort<7413>,
        /// The port of loopback for NETCONF
        #[arg(long, default_value_t = 7414)]
        netconf_port: u16,
        /// The folder of its keys, which is emptied
        #[arg(long, default_value = "switch", value_name = "DIR")]
        folder: std::path::PathBuf,
    },
    /// A ticket desk that describes itself (OpenAPI) and gives tokens (OAuth 2.0) to the client
    /// `arvok`
    Desk {
        /// The port of loopback
        #[arg(long, default_value_t = 7405)]
        port: u16,
        /// What whoever sets its faults must show
        #[arg(long, env = "ARVOK_DESK_TOKEN", default_value = "tickets", hide_env_values = true)]
        token: String,
        /// The client's secret
        #[arg(
            long,
            env = "ARVOK_DESK_SECRET",
            default_value = "desk-secret",
            hide_env_values = true
        )]
        secret: String,
    },
    /// A register of gate kiosks, listed in pages
    Kiosks(WatchedPort<7406>),
    /// A pager
    Pager {
        #[command(flatten)]
        of: OfPort<7407>,
        /// The key of its rota
        #[arg(long, env = "ARVOK_PAGER_KEY", default_value = "night", hide_env_values = true)]
        key: String,
    },
    /// A mail server that keeps what it takes
    Mailroom {
        /// The port of loopback
        #[arg(long, default_value_t = 7412)]
        port: u16,
        /// The password of whoever sends; the name is `arvok`
        #[arg(
            long,
            env = "ARVOK_MAILROOM_PASSWORD",
            default_value = "mailroom",
            hide_env_values = true
        )]
        password: String,
    },
    /// Switches of features, each on for a share of the passengers
    Features(WatchedPort<7408>),
    /// A queue of mails with its workers
    Queue(WatchedPort<7409>),
    /// A cloud whose instances take time
    Cloud(WatchedPort<7410>),
    /// A public web site with its bookings and its payment partner
    Site(WatchedPort<7411>),
    /// A chat that keeps messages
    Chat {
        /// The port of loopback
        #[arg(long, default_value_t = 7402)]
        port: u16,
        /// What callers must show
        #[arg(long, env = "ARVOK_CHAT_TOKEN", default_value = "chat", hide_env_values = true)]
        token: String,
    },
}

/// Where a stand-in is, and what is shown to it.
#[derive(Clone, Debug, ClapArgs)]
pub struct OfPort<const PORT: u16> {
    /// The port of loopback
    #[arg(long, default_value_t = PORT)]
    pub port: u16,
    /// What callers must show
    #[arg(long, env = "ARVOK_STANDIN_TOKEN", default_value = "skerrow", hide_env_values = true)]
    pub token: String,
}

/// The same for one with a watch, and where that posts.
#[derive(Clone, Debug, ClapArgs)]
pub struct WatchedPort<const PORT: u16> {
    #[command(flatten)]
    pub of: OfPort<PORT>,
    /// Where its watch posts
    #[arg(long, value_name = "URL", requires = "report_token")]
    pub report_to: Option<String>,
    /// What the watch shows there
    #[arg(long, env = "ARVOK_STANDIN_REPORT_TOKEN", hide_env_values = true)]
    pub report_token: Option<String>,
}
