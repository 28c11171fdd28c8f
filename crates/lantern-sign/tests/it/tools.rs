//! What general tools say of what was signed.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use lantern_core::progress::Silent;
use lantern_formats::hash::Hash;
use lantern_formats::ssh::SshSignature;
use lantern_formats::zip::Method;
use lantern_keys::key::Signer;
use lantern_sign::apple_bundle::Wanted;
use lantern_sign::macho::{Code, Entitlements};
use lantern_sign::rotation::{Lineage, Rotation};
use lantern_sign::stamp::Edits;
use lantern_sign::stamp::program::Patches;
use lantern_sign::time_stamp::{Authority, Unreachable};
use lantern_sign::{SignError, apk, ssh, statement};

use crate::code;
use crate::programs::{Clock, example, sign_with, verified};
use crate::scene::{Folder, of_team, p256, rsa, sign, sign_bundle, unpacked, write};

fn run(program: &str, arguments: &[&str]) -> bool {
    let output = Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"));
    output.status.success()
}

/// `openssl` verifies the message of a bundle's signature, and no other.
#[test]
fn openssl_verifies_a_bundle() {
    let folder = Folder::new();
    let (from, to) = (folder.path("a.aab"), folder.path("b.aab"));
    write(&from, &[("base/letter ó.txt".to_owned(), Method::Deflate, b"Dear Aldous".to_vec())]);
    for signer in [rsa(), p256()] {
        sign_bundle(&from, &to, &signer).unwrap();
        let signed = unpacked(&to);
        let [file, block] = [&signed[1], &signed[2]].map(|(name, _, bytes)| {
            let path = folder.path(&name.replace('/', "-"));
            fs::write(&path, bytes).unwrap();
            path.to_str().unwrap().to_owned()
        });
        let how = ["cms", "-verify", "-binary", "-inform", "DER", "-in", &block, "-content", &file];
        let verify = || run("openssl", &[&how[..], &["-noverify", "-out", "/dev/null"]].concat());
        assert!(verify());
        fs::write(&file, b"another").unwrap();
        assert!(!verify());
    }
}

/// `scripts/signatures.py` recomputes what is signed of a program from the specification; `openssl cms` verifies its message, and
/// `openssl ts` the time stamp.
#[test]
fn a_program_is_verified_by_others() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/signatures.py");
    let (path, authority) = (to.to_str().unwrap().to_owned(), folder.path("noon-gun.pem"));
    let clock = Clock::honest();
    fs::write(&authority, lantern_keys::pem::write("CERTIFICATE", &clock.key.chain()[0])).unwrap();
    for signer in [rsa(), p256()] {
        sign_with(&from, &to, &signer, &Patches::default(), Some(&clock)).unwrap();
        let verify = || run("python3", &[script, "--authority", authority.to_str().unwrap(), &path]);
        assert!(verify());
        let signed = fs::read(&to).unwrap();
        for at in [0x40, 0x80 + 24 + 64, 600] {
            let mut changed = signed.clone();
            changed[at] ^= 1;
            fs::write(&to, changed).unwrap();
            assert!(!verify(), "byte {at}");
        }
    }
}

/// `scripts/code_signatures.py` makes every hash of a program and of a bundle again; `openssl cms` verifies their messages.
#[test]
fn a_bundle_is_verified_by_others() {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/code_signatures.py");
    let verify = |path: &Path| run("python3", &[script, "--quiet", path.to_str().unwrap()]);
    let folder = Folder::new();
    let (from, to) = (code::example(&folder), folder.path("signed"));
    let entitlements = Entitlements::read(code::ENTITLEMENTS.as_bytes()).unwrap();
    let about = Code { is_hardened: true, entitlements: Some(&entitlements), ..code::plain() };
    let (team, own) = (of_team("HERON12345"), rsa());
    let signers: [Option<&dyn Signer>; 3] = [Some(&team), Some(&own), None];
    for (number, signer) in signers.into_iter().enumerate() {
        code::sign_with(&from, &to, &about, signer).unwrap();
        assert!(verify(&to));
        let signed = fs::read(&to).unwrap();
        for at in [0x4000 + 16, 0x4000 + 0x3000, 0x8000 + 100] {
            let mut changed = signed.clone();
            changed[at] ^= 1;
            fs::write(&to, changed).unwrap();
            assert!(!verify(&to), "byte {at}");
        }
        let root = folder.path(&format!("export-{number}"));
        code::bundle_for_macos(&root);
        code::bundle_for_phones(&root);
        for name in ["Saltmarsh Post.app", "Payload/Post.app"] {
            code::sign_folder(&root, name, signer, &|_| Wanted::default()).unwrap();
            assert!(verify(&root.join(name)), "{name}");
        }
        fs::write(root.join("Payload/Post.app/reeds.tex"), b"other").unwrap();
        assert!(!verify(&root.join("Payload/Post.app")));
    }
}

/// `ssh-keygen` takes our detached signatures, and ours reads what it signs.
#[test]
fn ssh_keygen_verifies_a_list() {
    let folder = Folder::new();
    let list = b"ed7002b439e9ac845f22357d822bac1444730fbdb6016d3ec9432297b9ec9f73  saltmarsh.x86_64\n";
    let path = |name: &str| folder.path(name).to_str().unwrap().to_owned();
    let verified = |text: &str, namespace: &str, content: &[u8]| {
        let read = SshSignature::read(text)?;
        read.verify(namespace, &read.hash.digest(content))
    };
    let verify = |namespace: &str, content: &[u8]| {
        let (allowed, signature) = (path("allowed"), path("SHA256SUMS.sig"));
        let mut child = Command::new("ssh-keygen")
            .args(["-Y", "verify", "-f", &allowed, "-I", "paper-heron", "-n", namespace, "-s", &signature])
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        // It may refuse before it has read everything.
        let _ = std::io::Write::write_all(&mut child.stdin.take().unwrap(), content);
        child.wait().unwrap().success()
    };
    for signer in [rsa(), p256()] {
        let line = lantern_keys::ssh::public_line(&signer.chain()[0]).unwrap();
        fs::write(path("allowed"), format!("paper-heron {line}\n")).unwrap();
        let text = ssh::sign(&signer, &Hash::Sha512.digest(list)).unwrap();
        fs::write(path("SHA256SUMS.sig"), &text).unwrap();
        assert!(verify("file", list));
        assert!(!verify("file", b"another list") && !verify("letters", list));
        assert_eq!(
            verified(&text, "file", b"another list").unwrap_err(),
            "what was signed has changed, or another key signed it"
        );
        assert_eq!(verified(&text, "letters", list).unwrap_err(), "it was made for another purpose");
        assert_eq!(
            ssh::sign(&signer, &Hash::Sha512.digest(list)).unwrap(),
            text,
            "the same key and list give the same signature"
        );
    }
    for kind in ["ed25519", "ecdsa", "rsa"] {
        let (key, content) = (path(kind), path("content"));
        fs::write(&content, list).unwrap();
        assert!(run("ssh-keygen", &["-q", "-t", kind, "-N", "", "-f", &key]));
        assert!(run("ssh-keygen", &["-q", "-Y", "sign", "-n", "file", "-f", &key, &content]));
        let text = fs::read_to_string(path("content.sig")).unwrap();
        verified(&text, "file", list).unwrap();
        fs::remove_file(path("content.sig")).unwrap();
    }
}

/// A statement's signature, as `openssl` sees it: over the kind and the payload, each with its length in bytes.
#[test]
fn openssl_verifies_a_statement() {
    let folder = Folder::new();
    let text = "{\"made by\":\"Paper Heron, ó\"}".as_bytes();
    for signer in [rsa(), p256()] {
        let envelope = statement::seal(text, &[&signer]).unwrap();
        let json = serde_json::to_vec(&envelope).unwrap();
        assert_eq!(
            statement::open(&json).unwrap(),
            statement::Opened { statement: text.to_vec(), signers: vec![signer.chain()[0].clone()] }
        );
        let path = |name: &str| folder.path(name).to_str().unwrap().to_owned();
        fs::write(path("own.pem"), &envelope.signatures[0].cert).unwrap();
        let message = [format!("DSSEv1 28 application/vnd.in-toto+json {} ", text.len()).as_bytes(), text].concat();
        fs::write(path("message"), &message).unwrap();
        let sig =
            base64::Engine::decode(&base64::engine::general_purpose::STANDARD, &envelope.signatures[0].sig).unwrap();
        fs::write(path("sig"), sig).unwrap();
        let (key, own, sig, message) = (path("key.pem"), path("own.pem"), path("sig"), path("message"));
        assert!(run("openssl", &["x509", "-in", &own, "-pubkey", "-noout", "-out", &key]));
        assert!(run("openssl", &["dgst", "-sha256", "-verify", &key, "-signature", &sig, &message]));
        // Whatever is changed is noticed.
        for at in 0..json.len() {
            let mut changed = json.clone();
            changed[at] ^= 1;
            if let Ok(opened) = statement::open(&changed) {
                assert_eq!(opened.statement, text, "byte {at}");
            }
        }
    }
    let nobody = statement::seal(text, &[]).unwrap();
    assert!(statement::open(&serde_json::to_vec(&nobody).unwrap()).unwrap().signers.is_empty());
}

/// `openssl ts` answers requests of ours, and its answers are taken.
#[test]
fn the_answers_of_another_authority_are_taken() {
    let folder = Folder::new();
    let (from, to) = (example(&folder), folder.path("signed.exe"));
    let authority = OpenSsl::new(&folder);
    for signer in [rsa(), p256()] {
        sign_with(&from, &to, &signer, &Patches::default(), Some(&authority)).unwrap();
        let found = verified(&to).unwrap().unwrap().signer;
        assert_eq!((found.stamped.is_some(), &found.stamped_by[0][..]), (true, "Noon Gun"));
    }
}

/// An authority that is `openssl ts`.
#[derive(Debug)]
struct OpenSsl(PathBuf);

impl OpenSsl {
    fn new(folder: &Folder) -> Self {
        let root = folder.path("authority");
        fs::create_dir_all(&root).unwrap();
        let own = Self(root);
        let settings = "[req]\ndistinguished_name=name\nx509_extensions=use\nprompt=no\n[name]\nCN=Noon Gun\n[use]\n\
                        extendedKeyUsage=critical,timeStamping\n[tsa]\ndefault_tsa=own\n[own]\nserial=SERIAL\n\
                        default_policy=2.999.1\ndigests=sha256\nsigner_digest=sha256\ness_cert_id_alg=sha256\n";
        fs::write(own.0.join("settings"), settings.replace("SERIAL", &own.path("serial"))).unwrap();
        let (key, certificate, settings) = (own.path("key"), own.path("certificate"), own.path("settings"));
        assert!(run(
            "openssl",
            &[
                "req",
                "-x509",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-days",
                "9",
                "-keyout",
                &key,
                "-out",
                &certificate,
                "-config",
                &settings
            ]
        ));
        own
    }

    fn path(&self, name: &str) -> String {
        self.0.join(name).to_str().unwrap().to_owned()
    }
}

impl Authority for OpenSsl {
    fn name(&self) -> String {
        "openssl".to_owned()
    }

    fn ask(&self, request: &[u8]) -> Result<Vec<u8>, Unreachable> {
        fs::write(self.0.join("request"), request).unwrap();
        let [key, certificate, settings, request, reply] =
            ["key", "certificate", "settings", "request", "reply"].map(|name| self.path(name));
        assert!(run(
            "openssl",
            &[
                "ts",
                "-reply",
                "-config",
                &settings,
                "-queryfile",
                &request,
                "-inkey",
                &key,
                "-signer",
                &certificate,
                "-out",
                &reply
            ]
        ));
        Ok(fs::read(&reply).unwrap())
    }
}

/// Python's own library reads a signed package, and `scripts/signatures.py` recomputes its digests.
#[test]
fn python_reads_and_verifies_a_package() {
    let folder = Folder::new();
    let to = folder.path("signed.apk");
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../scripts/signatures.py");
    for (oldest, signer) in [(21, rsa()), (26, p256())] {
        sign(&folder.package(oldest), &to, &signer).unwrap();
        let path = to.to_str().unwrap();
        assert!(run(
            "python3",
            &["-c", "import sys, zipfile; assert zipfile.ZipFile(sys.argv[1]).testzip() is None", path]
        ));
        assert!(run("python3", &[script, path]));
        let mut changed = fs::read(&to).unwrap();
        changed[5_000] ^= 1;
        fs::write(&to, changed).unwrap();
        assert!(!run("python3", &[script, path]));
    }
    // A key that came after another one, for newer systems alone and for all that know of it.
    let (first, next) = (rsa(), p256());
    let lineage = Lineage::of(&first, &next.chain()[0], None).unwrap();
    for since in [28, 33] {
        let rotation = Rotation { first: &first, lineage: &lineage, since };
        let from = folder.package(26);
        let open = || fs::File::open(&from);
        apk::sign((&open, &Edits::new()), &to, &next, Some(&rotation), &Silent).unwrap();
        assert!(run("python3", &[script, to.to_str().unwrap()]), "{since}");
    }
}

/// A device on which nothing can be written is a full disk, and not a broken package.
#[test]
fn a_full_disk_is_said_to_be_one() {
    let folder = Folder::new();
    let (from, full) = (folder.package(26), Path::new("/dev/full"));
    for signed in [sign(&from, full, &p256()).map(|_| ()), sign_bundle(&from, full, &p256())] {
        let Err(SignError::Io(error)) = signed else { panic!("{signed:?}") };
        assert_eq!(error.kind(), std::io::ErrorKind::StorageFull);
    }
}
