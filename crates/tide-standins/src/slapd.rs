//! OpenLDAP's slapd in a folder of its own, on loopback ports, ended when it is dropped.

use crate::certs::{self, Certificates};
use crate::world::BASE;
use anyhow::{Context, bail};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use tide_ldap::ldif::{self, LdifEntry};

/// How a slapd is set up, beyond the usual.
#[derive(Debug, Clone, Default)]
pub struct Setup {
    /// Lines for the whole server.
    pub server: String,
    /// Lines for the database, before its overlays.
    pub database: String,
    /// Lines after the password policy overlay.
    pub policy: String,
    /// Access rules instead of the usual ones.
    pub access: Option<String>,
    /// Every write waits for the disk, as it does where it matters; tests do without.
    pub durable: bool,
    /// Nothing follows renames and deletions: neither `memberOf` nor referential integrity.
    pub without_integrity: bool,
    /// Its certificates instead of fresh ones for `localhost` and 127.0.0.1.
    pub certificates: Option<Certificates>,
}

/// A running slapd.
pub struct Slapd {
    /// Plain LDAP, with StartTLS.
    pub url: String,
    /// LDAP over TLS.
    pub tls_url: String,
    /// The name that may do everything.
    pub admin_dn: String,
    /// Its password.
    pub admin_password: String,
    /// The authority that signed its certificate.
    pub certificates: Certificates,
    folder: std::sync::Arc<tempfile::TempDir>,
    child: Child,
    ports: (u16, u16),
}

pub(crate) fn program(name: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let places = std::env::split_paths(&path)
        .chain(["/usr/sbin", "/usr/local/sbin", "/usr/libexec"].map(PathBuf::from));
    places
        .map(|place| place.join(name))
        .find(|file| file.is_file())
}

/// Whether slapd is installed, with the modules that are used.
pub fn available() -> bool {
    program("slapd").is_some()
        && program("slapadd").is_some()
        && Path::new("/usr/lib/ldap/back_mdb.la").exists()
}

impl Slapd {
    /// Starts a slapd that holds these entries, the top entry first.
    pub fn start(entries: &[LdifEntry]) -> anyhow::Result<Slapd> {
        Self::with_setup(entries, &Setup::default())
    }

    /// Starts a slapd that is set up in another way.
    pub fn with_setup(entries: &[LdifEntry], setup: &Setup) -> anyhow::Result<Slapd> {
        let folder = std::sync::Arc::new(tempfile::Builder::new().prefix("harbour-").tempdir()?);
        let certificates = match &setup.certificates {
            Some(given) => given.clone(),
            None => certs::make(&["localhost", "127.0.0.1"])?,
        };
        let at = folder.path().to_owned();
        let at = at.as_path();
        for (name, text) in [
            ("ca.pem", &certificates.ca_pem),
            ("cert.pem", &certificates.server_pem),
            ("key.pem", &certificates.server_key_pem),
        ] {
            std::fs::write(at.join(name), text)?;
        }
        std::fs::create_dir(at.join("data"))?;
        let admin_dn = format!("cn=admin,{BASE}");
        let admin_password = uuid::Uuid::new_v4().to_string();
        std::fs::write(
            at.join("slapd.conf"),
            configuration(at, &admin_dn, &admin_password, setup),
        )?;
        std::fs::write(at.join("entries.ldif"), ldif::write(entries))?;
        let adder = program("slapadd")
            .context("slapadd is not installed: install Debian's package slapd")?;
        let added = Command::new(adder)
            .args(["-q", "-f"])
            .arg(at.join("slapd.conf"))
            .arg("-l")
            .arg(at.join("entries.ldif"))
            .output()?;
        if !added.status.success() {
            bail!("slapadd failed: {}", String::from_utf8_lossy(&added.stderr));
        }
        let mut last = None;
        // A port that was free a moment ago may be taken by now: another pair is tried.
        for _ in 0..3 {
            let ports = (crate::free_port()?, crate::free_port()?);
            let mut slapd = Slapd {
                url: format!("ldap://127.0.0.1:{}", ports.0),
                tls_url: format!("ldaps://127.0.0.1:{}", ports.1),
                admin_dn: admin_dn.clone(),
                admin_password: admin_password.clone(),
                certificates: certificates.clone(),
                child: launch(folder.path(), ports)?,
                folder: folder.clone(),
                ports,
            };
            match slapd.wait() {
                Ok(()) => return Ok(slapd),
                Err(error) => last = Some(error),
            }
        }
        Err(last.unwrap_or_else(|| anyhow::anyhow!("slapd does not start")))
    }

    fn wait(&mut self) -> anyhow::Result<()> {
        let begun = tide_clock::instant();
        while std::net::TcpStream::connect(("127.0.0.1", self.ports.0)).is_err() {
            if let Some(status) = self.child.try_wait()? {
                bail!(
                    "slapd ended at once ({status}); see {}",
                    self.folder.path().join("slapd.log").display()
                );
            }
            if begun.elapsed() > Duration::from_secs(15) {
                bail!("slapd does not answer after 15 s");
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(())
    }

    /// Ends the server; its data stay.
    pub fn stop(&mut self) {
        // It may have ended already, which is what is wanted.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    /// Starts it again with the same data, on the same ports.
    pub fn restart(&mut self) -> anyhow::Result<()> {
        self.child = launch(self.folder.path(), self.ports)?;
        self.wait()
    }
}

impl Drop for Slapd {
    fn drop(&mut self) {
        self.stop();
    }
}

fn launch(at: &Path, ports: (u16, u16)) -> anyhow::Result<Child> {
    let server =
        program("slapd").context("slapd is not installed: install Debian's package slapd")?;
    let log = std::fs::File::create(at.join("slapd.log"))?;
    let listen = format!(
        "ldap://127.0.0.1:{}/ ldaps://127.0.0.1:{}/",
        ports.0, ports.1
    );
    Ok(Command::new(server)
        .args(["-d", "0", "-f"])
        .arg(at.join("slapd.conf"))
        .args(["-h", &listen])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(log)
        .spawn()?)
}

fn configuration(at: &Path, admin_dn: &str, admin_password: &str, setup: &Setup) -> String {
    let dir = at.display();
    let Setup {
        server,
        database,
        policy,
        durable,
        ..
    } = setup;
    let sync = if *durable { "" } else { "dbnosync" };
    let usual = "access to attrs=userPassword by self write by anonymous auth by * none\naccess to * by users read by * none";
    let access = setup.access.as_deref().unwrap_or(usual);
    let integrity = match setup.without_integrity {
        true => "",
        false => "overlay memberof\noverlay refint\nrefint_attributes member manager",
    };
    format!(
        r#"modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
moduleload refint
moduleload ppolicy
moduleload syncprov
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
pidfile {dir}/slapd.pid
sizelimit unlimited
TLSCACertificateFile {dir}/ca.pem
TLSCertificateFile {dir}/cert.pem
TLSCertificateKeyFile {dir}/key.pem
{server}
access to dn.base="" by * read
access to dn.base="cn=Subschema" by * read
database mdb
suffix "{BASE}"
rootdn "{admin_dn}"
rootpw {admin_password}
directory {dir}/data
maxsize 1073741824
{sync}
index objectClass,uid,cn,mail,member,entryUUID,employeeNumber,entryCSN,modifyTimestamp eq
{database}
{access}
overlay syncprov
syncprov-checkpoint 1 1
syncprov-sessionlog 10000
{integrity}
overlay ppolicy
{policy}
"#
    )
}
