//! A mail server with a mailbox: Dovecot, which takes messages over LMTP and shows them over IMAP
//! with TLS.

use super::{folder, until};
use arvok_postgres::{SupervisedChild, free_port, spawn_supervised};
use nix::unistd::{Gid, Uid, chown, getgid, getuid};
use std::{
    fs,
    net::TcpStream,
    path::PathBuf,
    process::{Command, Stdio},
};

/// The password of every user.
const PASSWORD: &str = "between-tides";

/// A mail server.
pub struct Dovecot {
    /// Where it takes messages.
    pub lmtp: u16,
    imap: u16,
    folder: PathBuf,
    running: Option<SupervisedChild>,
}

impl Dovecot {
    pub fn start() -> Self {
        let folder = folder("dovecot");
        // Dovecot keeps nobody's mail as root.
        let (uid, gid) = match getuid().is_root() {
            true => (Uid::from_raw(65_534), Gid::from_raw(65_534)),
            false => (getuid(), getgid()),
        };
        let mail = folder.join("mail");
        fs::create_dir(&mail).expect("a folder");
        chown(&mail, Some(uid), Some(gid)).expect("is given");
        let name = |of: &str, id: u32| {
            let out = Command::new("getent").args([of, &id.to_string()]).output().expect("getent");
            let line = String::from_utf8(out.stdout).expect("UTF-8");
            line.split(':').next().expect("a name").to_owned()
        };
        let (user, group) = (name("passwd", uid.as_raw()), name("group", gid.as_raw()));
        let made = Command::new("openssl")
            .args(["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1"])
            .args(["-nodes", "-days", "2", "-subj", "/CN=mail.skerrow.example"])
            .args(["-addext", "subjectAltName=IP:127.0.0.1"])
            .args(["-addext", "basicConstraints=critical,CA:FALSE"])
            .args(["-keyout", "key.pem", "-out", "certificate.pem"])
            .current_dir(&folder)
            .output()
            .expect("openssl");
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let (lmtp, imap) = (free_port().expect("a port"), free_port().expect("a port"));
        let (at, uid, gid) = (folder.display(), uid.as_raw(), gid.as_raw());
        let settings = format!(
            "base_dir = {at}/run\nstate_dir = {at}/state\nlog_path = {at}/log\n\
             protocols = imap lmtp\nssl = required\nssl_cert = <{at}/certificate.pem\n\
             ssl_key = <{at}/key.pem\ndefault_login_user = {user}\n\
             default_internal_user = {user}\ndefault_internal_group = {group}\n\
             mail_location = maildir:{at}/mail\nmail_uid = {uid}\nmail_gid = {gid}\n\
             first_valid_uid = 1\nrecipient_delimiter = +\nauth_username_format = %n\n\
             passdb {{\n driver = static\n args = password={PASSWORD}\n}}\n\
             userdb {{\n driver = static\n args = uid={uid} gid={gid} home={at}/mail \
             allow_all_users=yes\n}}\n\
             service imap-login {{\n chroot =\n inet_listener imap {{\n port = 0\n }}\n \
             inet_listener imaps {{\n address = 127.0.0.1\n port = {imap}\n }}\n}}\n\
             service anvil {{\n chroot =\n}}\n\
             service lmtp {{\n inet_listener lmtp {{\n address = 127.0.0.1\n port = {lmtp}\n }}\n}}\n"
        );
        fs::write(folder.join("dovecot.conf"), settings).expect("writes");
        let mut server = Self { lmtp, imap, folder, running: None };
        server.begin();
        server
    }

    /// Starts it, again.
    pub fn begin(&mut self) {
        let mut command = Command::new("/usr/sbin/dovecot");
        command.arg("-F").arg("-c").arg(self.folder.join("dovecot.conf"));
        let running = spawn_supervised(&command, "TERM", Stdio::null(), Stdio::null());
        self.running = Some(running.expect("it starts"));
        until("the mail server to listen", || {
            let listens = |port: u16| TcpStream::connect(("127.0.0.1", port)).is_ok();
            (listens(self.lmtp) && listens(self.imap)).then_some(())
        });
    }

    /// Ends it; what it has stays.
    pub fn end(&mut self) {
        drop(self.running.take());
    }

    /// How a node reads the mailbox, with this file as that of the password.
    pub fn variables(&self) -> [(&'static str, String); 3] {
        let file = |name: &str| self.folder.join(name).display().to_string();
        [
            ("ARVOK_ANSWERS_MAILBOX", format!("imaps://decide@127.0.0.1:{}", self.imap)),
            ("ARVOK_ANSWERS_PASSWORD_FILE", file("password")),
            ("ARVOK_ANSWERS_AUTHORITIES", file("certificate.pem")),
        ]
    }

    /// Writes the file of the password.
    pub fn password(&self, is_right: bool) {
        let password = if is_right { PASSWORD } else { "between-rocks" };
        fs::write(self.folder.join("password"), format!("{password}\n")).expect("writes");
    }

    /// How many messages are new, and how many were seen.
    pub fn messages(&self) -> (usize, usize) {
        let seen = |of: &str, is_seen: bool| {
            let files = fs::read_dir(self.folder.join("mail").join(of));
            let names = files.into_iter().flatten().flatten().map(|f| f.file_name());
            let name = |name: std::ffi::OsString| name.to_string_lossy().into_owned();
            names.map(name).filter(|name| name.ends_with('S') == is_seen).count()
        };
        (seen("new", false) + seen("cur", false), seen("cur", true))
    }

    /// How often somebody has opened the mailbox.
    pub fn logins(&self) -> usize {
        let log = fs::read_to_string(self.folder.join("log")).unwrap_or_default();
        log.matches("imap-login: Info: Login").count()
    }
}
