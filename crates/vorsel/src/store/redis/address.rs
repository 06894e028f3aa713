//! What an address says besides where the server is: the files of certificates.

use ::redis::{Client, ErrorKind, RedisError};

/// A client for this address. `rediss://` encrypts, and then the parameters `sslrootcert`, `sslcert` and `sslkey` name files
/// as they do in an address of PostgreSQL.
pub(super) fn client(url: &str) -> Result<Client, RedisError> {
    let (place, parameters) = url.split_once('?').unwrap_or((url, ""));
    let (mut files, mut kept) = (Files::default(), Vec::new());
    for parameter in parameters.split('&').filter(|parameter| !parameter.is_empty()) {
        match parameter.split_once('=') {
            Some(("sslrootcert", path)) => files.roots = Some(path),
            Some(("sslcert", path)) => files.certificate = Some(path),
            Some(("sslkey", path)) => files.key = Some(path),
            _ => kept.push(parameter),
        }
    }
    let question = if kept.is_empty() { "" } else { "?" };
    let url = format!("{place}{question}{}", kept.join("&"));
    let is_encrypted = url.starts_with("rediss://");
    if !is_encrypted && files != Files::default() {
        return Err(wrong("expected rediss:// beside sslrootcert, sslcert and sslkey, but found another scheme"));
    }
    if is_encrypted { encrypted(&url, &files) } else { Client::open(url) }
}

#[derive(Debug, Default, PartialEq, Eq)]
struct Files<'u> {
    roots: Option<&'u str>,
    certificate: Option<&'u str>,
    key: Option<&'u str>,
}

fn wrong(problem: impl Into<String>) -> RedisError {
    (ErrorKind::InvalidClientConfig, "wrong address", problem.into()).into()
}

#[cfg(feature = "tls")]
fn encrypted(url: &str, files: &Files<'_>) -> Result<Client, RedisError> {
    use std::fs;

    use ::redis::{ClientTlsConfig, TlsCertificates};

    // The client takes the one of the process. Whatever the app has installed stays.
    let _ = rustls::crypto::aws_lc_rs::default_provider().install_default();
    let read = |path: &str| fs::read(path).map_err(|error| wrong(format!("{path}: {error}")));
    let client_tls = match (files.certificate, files.key) {
        (Some(certificate), Some(key)) => {
            Some(ClientTlsConfig { client_cert: read(certificate)?, client_key: read(key)? })
        }
        (None, None) => None,
        _ => return Err(wrong("expected sslcert and sslkey together, but found one of them")),
    };
    let root_cert = files.roots.map(read).transpose()?;
    if client_tls.is_none() && root_cert.is_none() {
        return Client::open(url);
    }
    Client::build_with_tls(url, TlsCertificates { client_tls, root_cert })
}

#[cfg(not(feature = "tls"))]
fn encrypted(_: &str, _: &Files<'_>) -> Result<Client, RedisError> {
    Err(wrong("expected the feature `tls` of vorsel for rediss://"))
}
