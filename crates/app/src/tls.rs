//! TLS to servers, by the certificates that this system trusts.

use rustls::crypto::CryptoProvider;
use rustls::{ClientConfig, RootCertStore};
use std::fs;
use std::path::Path;
use std::sync::Arc;
use ureq::tls::{Certificate, ClientCert, PemItem, PrivateKey, RootCerts, TlsConfig, parse_pem};

/// What a processor must be able to do for the cryptography in use, and whether this one can.
#[cfg(target_arch = "x86_64")]
fn lacking() -> Option<&'static str> {
    let abilities = [
        ("aes", is_x86_feature_detected!("aes")),
        ("ssse3", is_x86_feature_detected!("ssse3")),
        ("avx", is_x86_feature_detected!("avx")),
        ("avx2", is_x86_feature_detected!("avx2")),
        ("adx", is_x86_feature_detected!("adx")),
        ("bmi1", is_x86_feature_detected!("bmi1")),
        ("bmi2", is_x86_feature_detected!("bmi2")),
        ("pclmulqdq", is_x86_feature_detected!("pclmulqdq")),
    ];
    abilities.into_iter().find(|it| !it.1).map(|it| it.0)
}

#[cfg(target_arch = "aarch64")]
fn lacking() -> Option<&'static str> {
    use std::arch::is_aarch64_feature_detected;
    let abilities = [
        ("neon", is_aarch64_feature_detected!("neon")),
        ("aes", is_aarch64_feature_detected!("aes")),
        ("pmull", is_aarch64_feature_detected!("pmull")),
        ("sha2", is_aarch64_feature_detected!("sha2")),
    ];
    abilities.into_iter().find(|it| !it.1).map(|it| it.0)
}

#[cfg(any(target_arch = "x86_64", target_arch = "aarch64"))]
fn provider() -> Result<CryptoProvider, String> {
    match lacking() {
        None => Ok(rustls_graviola::default_provider()),
        Some(what) => {
            Err(format!("TLS needs a processor that can do `{what}`, and this one cannot"))
        }
    }
}

#[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
fn provider() -> Result<CryptoProvider, String> {
    Err("TLS is spoken on x86-64 and aarch64 processors only".into())
}

/// The cryptography in use.
///
/// # Errors
/// What the processor lacks.
pub(crate) fn cryptography() -> Result<Arc<CryptoProvider>, String> {
    provider().map(Arc::new)
}

/// The certificates that this system trusts; `SSL_CERT_FILE` and `SSL_CERT_DIR` name others.
///
/// # Errors
/// Why there are none.
pub(crate) fn trusted() -> Result<Vec<rustls::pki_types::CertificateDer<'static>>, String> {
    let found = rustls_native_certs::load_native_certs();
    if !found.certs.is_empty() {
        return Ok(found.certs);
    }
    let why: Vec<String> = found.errors.iter().map(ToString::to_string).collect();
    Err(format!(
        "no certificates are trusted here, so whom one speaks to cannot be known{}{}; they are commonly in \
         /etc/ssl/certs, SSL_CERT_FILE names a file of others",
        if why.is_empty() { "" } else { ": " },
        why.join("; ")
    ))
}

/// How servers for the web are spoken to.
///
/// # Errors
/// As for [`cryptography`] and [`trusted`].
pub(crate) fn for_web() -> Result<TlsConfig, String> {
    let certificates = trusted()?;
    let roots: Vec<_> =
        certificates.iter().map(|it| Certificate::from_der(it).to_owned()).collect();
    Ok(TlsConfig::builder()
        .unversioned_rustls_crypto_provider(cryptography()?)
        .root_certs(RootCerts::from(roots))
        .build())
}

/// How a store is spoken to that knows whom it lets in: by the certificates of a file, or those that this system trusts; with
/// a certificate of one's own, and its key.
///
/// # Errors
/// As for [`cryptography`] and [`trusted`], or what is wrong with a file.
pub(crate) fn for_store(
    ca: Option<&Path>,
    own: Option<(&Path, &Path)>,
) -> Result<TlsConfig, String> {
    let wrong = |path: &Path, why: &dyn std::fmt::Display| format!("{}: {why}", path.display());
    let read = |path: &Path| fs::read(path).map_err(|error| wrong(path, &error));
    let certificates = |path: &Path| -> Result<Vec<Certificate<'static>>, String> {
        let mut found = Vec::new();
        for item in parse_pem(&read(path)?) {
            if let PemItem::Certificate(it) = item.map_err(|error| wrong(path, &error))? {
                found.push(it);
            }
        }
        if found.is_empty() { Err(wrong(path, &"no certificate is in it")) } else { Ok(found) }
    };
    let roots = match ca {
        Some(path) => certificates(path)?,
        None => trusted()?.iter().map(|it| Certificate::from_der(it).to_owned()).collect(),
    };
    let own = own.map(|(path, key)| {
        let secret = PrivateKey::from_pem(&read(key)?).map_err(|error| wrong(key, &error))?;
        Ok::<_, String>(ClientCert::new_with_certs(&certificates(path)?, secret))
    });
    Ok(TlsConfig::builder()
        .unversioned_rustls_crypto_provider(cryptography()?)
        .root_certs(RootCerts::from(roots))
        .client_cert(own.transpose()?)
        .build())
}

/// How connections are begun.
///
/// # Errors
/// As for [`cryptography`] and [`trusted`].
pub(crate) fn client() -> Result<Arc<ClientConfig>, String> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(trusted()?);
    let config = ClientConfig::builder_with_provider(cryptography()?)
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?;
    Ok(Arc::new(config.with_root_certificates(roots).with_no_client_auth()))
}
