//! A real domain controller: Samba's, in a folder of its own, on an address of its own in the
//! loopback network. It needs root and fixed ports, so only one runs at a time.

use crate::certs::{self, Certificates};
use crate::slapd::program;
use anyhow::{Context, bail};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// Where it listens: its ports cannot be chosen, so it has an address to itself.
const ADDRESS: &str = "127.0.0.2";

/// A running domain controller for the domain `skerry.example`.
pub struct DomainController {
    /// Plain LDAP, with StartTLS.
    pub url: String,
    /// LDAP over TLS.
    pub tls_url: String,
    /// The top of its tree.
    pub base: String,
    /// The name that may do everything, as name@domain.
    pub admin: String,
    /// Its password.
    pub password: String,
    /// The authority that signed its certificate.
    pub certificates: Certificates,
    folder: tempfile::TempDir,
    child: Child,
}

/// Why none can be started here, if none can.
pub fn missing() -> Option<&'static str> {
    if program("samba").is_none() || program("samba-tool").is_none() {
        return Some("Samba's directory service is not installed");
    }
    let root = std::fs::metadata("/proc/self")
        .is_ok_and(|about| std::os::unix::fs::MetadataExt::uid(&about) == 0);
    (!root).then_some("it needs root")
}

impl DomainController {
    /// Creates a domain and starts its controller, which takes half a minute.
    pub fn start() -> anyhow::Result<DomainController> {
        let folder = tempfile::Builder::new().prefix("controller-").tempdir()?;
        let at = folder.path().join("dc");
        let password = format!("Harbour-{}", &uuid::Uuid::new_v4().to_string()[..8]);
        std::fs::write(folder.path().join("empty.conf"), "[global]\n")?;
        provision(&folder, &at, &password)?;
        let certificates = certs::make(&["dc1.skerry.example", "localhost", ADDRESS])?;
        let tls = at.join("tls");
        std::fs::create_dir_all(&tls)?;
        for (name, text) in [
            ("ca.pem", &certificates.ca_pem),
            ("cert.pem", &certificates.server_pem),
            ("key.pem", &certificates.server_key_pem),
        ] {
            std::fs::write(tls.join(name), text)?;
        }
        // A key that others may read is refused.
        std::fs::set_permissions(
            tls.join("key.pem"),
            std::os::unix::fs::PermissionsExt::from_mode(0o600),
        )?;
        std::fs::create_dir_all(at.join("run"))?;
        let child = spawn(&folder, at, tls)?;
        let mut controller = DomainController {
            url: format!("ldap://{ADDRESS}:389"),
            tls_url: format!("ldaps://{ADDRESS}:636"),
            base: "DC=skerry,DC=example".into(),
            admin: "Administrator@skerry.example".into(),
            password,
            certificates,
            folder,
            child,
        };
        controller.wait()?;
        Ok(controller)
    }

    fn wait(&mut self) -> anyhow::Result<()> {
        let begun = tide_clock::instant();
        while std::net::TcpStream::connect((ADDRESS, 636)).is_err() {
            if let Some(status) = self.child.try_wait()? {
                let log = std::fs::read_to_string(self.folder.path().join("samba.log"))
                    .unwrap_or_default();
                bail!(
                    "samba ended at once ({status}): {}",
                    log.lines().rev().take(5).collect::<Vec<_>>().join(" / ")
                );
            }
            if begun.elapsed() > Duration::from_secs(60) {
                bail!("samba does not answer after 60 s");
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    /// Lets an account, by its security identifier, list and read what was deleted, as `dsacls` of
    /// a domain's administrator does it.
    pub fn show_deleted_to(&self, sid: &str) -> anyhow::Result<()> {
        let ldif = self.folder.path().join("deleted.ldif");
        let descriptor =
            format!("O:SYG:SYD:PAI(A;;RPLC;;;BA)(A;;RPWPCCDCLCRCWOWDSDSW;;;SY)(A;CI;RPLC;;;{sid})");
        let entry = format!(
            "dn: CN=Deleted Objects,{}\nchangetype: modify\nreplace: nTSecurityDescriptor\n",
            self.base
        );
        std::fs::write(
            &ldif,
            format!("{entry}nTSecurityDescriptor: {descriptor}\n"),
        )?;
        let done = Command::new(
            program("ldbmodify")
                .context("ldbmodify is not installed: install Debian's package ldb-tools")?,
        )
        .arg("-H")
        .arg(self.folder.path().join("dc/private/sam.ldb"))
        .arg("--controls=show_deleted:0")
        .arg(&ldif)
        .env("TDB_NO_FSYNC", "1")
        .stdin(Stdio::null())
        .output()?;
        if !done.status.success() {
            bail!("ldbmodify: {}", String::from_utf8_lossy(&done.stderr));
        }
        Ok(())
    }

    /// Runs `samba-tool` on the domain's own files, without asking the server.
    pub fn tool(&self, arguments: &[&str]) -> anyhow::Result<()> {
        let at = self.folder.path().join("dc");
        let done = Command::new(program("samba-tool").context("samba-tool is not installed")?)
            .args(arguments)
            .arg("-H")
            .arg(at.join("private/sam.ldb"))
            .arg("-s")
            .arg(at.join("etc/smb.conf"))
            .env("TDB_NO_FSYNC", "1")
            .stdin(Stdio::null())
            .output()?;
        if !done.status.success() {
            bail!(
                "samba-tool {}: {}",
                arguments.join(" "),
                String::from_utf8_lossy(&done.stderr)
            );
        }
        Ok(())
    }
}

/// Creates the domain.
fn provision(
    folder: &tempfile::TempDir,
    at: &std::path::Path,
    password: &str,
) -> anyhow::Result<()> {
    let made = Command::new(program("samba-tool").context("samba-tool is not installed")?)
        .args(["domain", "provision", "-s"])
        .arg(folder.path().join("empty.conf"))
        .arg(format!("--targetdir={}", at.display()))
        .args([
            "--realm=SKERRY.EXAMPLE",
            "--domain=SKERRY",
            "--host-name=dc1",
            "--host-ip=127.0.0.2",
            "--server-role=dc",
        ])
        .args(["--use-rfc2307", "--dns-backend=NONE"])
        .arg(format!("--adminpass={password}"))
        .env("TDB_NO_FSYNC", "1")
        .stdin(Stdio::null())
        .output()?;
    if !made.status.success() {
        bail!(
            "provisioning failed: {}",
            String::from_utf8_lossy(&made.stderr)
        );
    }
    Ok(())
}

/// Starts the server.
fn spawn(
    folder: &tempfile::TempDir,
    at: std::path::PathBuf,
    tls: std::path::PathBuf,
) -> anyhow::Result<Child> {
    let option = |name: &str, value: String| format!("--option={name}={value}");
    let log = std::fs::File::create(folder.path().join("samba.log"))?;
    let child = Command::new(program("samba").context("samba is not installed")?)
        .args([
            "-F",
            "--no-process-group",
            "-M",
            "prefork",
            "--maximum-runtime=1800",
            "-s",
        ])
        .arg(at.join("etc/smb.conf"))
        .args([
            "--debug-stdout",
            "--option=server services=ldap",
            "--option=bind interfaces only=yes",
        ])
        .arg(option("interfaces", format!("{ADDRESS}/8")))
        .arg(option(
            "pid directory",
            at.join("run").display().to_string(),
        ))
        .arg(option(
            "ncalrpc dir",
            at.join("run/ncalrpc").display().to_string(),
        ))
        .arg(option(
            "lock directory",
            at.join("run").display().to_string(),
        ))
        .arg(option(
            "tls keyfile",
            tls.join("key.pem").display().to_string(),
        ))
        .arg(option(
            "tls certfile",
            tls.join("cert.pem").display().to_string(),
        ))
        .arg(option(
            "tls cafile",
            tls.join("ca.pem").display().to_string(),
        ))
        .env("TDB_NO_FSYNC", "1")
        .stdin(Stdio::null())
        .stdout(log.try_clone()?)
        .stderr(log)
        .spawn()?;
    Ok(child)
}

impl Drop for DomainController {
    fn drop(&mut self) {
        // Ending the parent ends its workers; the kill is for one that does not listen.
        let _ = Command::new("kill")
            .arg(self.child.id().to_string())
            .status();
        for _ in 0..40 {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
