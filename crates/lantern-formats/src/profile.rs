//! The profile in a package for iOS or a bundle for macOS: what the maker of the system allows this game to do, and
//! where.
//!
//! Source: Apple's technical note 3125, "Provisioning Profiles"
//! (<https://developer.apple.com/documentation/technotes/tn3125-inside-code-signing-provisioning-profiles>). A profile is a signed message around a property list.

use x509_cert::der::{Tag, Tagged};

use crate::macho::Entitlements;
use crate::message::{Message, Signer};
use crate::offset_reader::FormatError;
use crate::plist::{self, Value};

/// Where a game with this profile may be installed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reach {
    /// Its developers' own devices, with debuggers.
    Development,
    /// Devices that it names.
    Named(usize),
    /// All devices, without the shop: those of an organisation where it is for phones.
    Everywhere,
    /// Everybody's, through the shop.
    Shop,
}

/// What a profile says.
#[derive(Debug, Clone)]
pub struct Profile {
    /// What its makers call it.
    pub name: String,
    /// Teams that it is for.
    pub teams: Vec<String>,
    /// Its last moment, as RFC 3339 writes it.
    pub expires: Option<String>,
    /// Where games with it may be installed.
    pub reach: Reach,
    /// What games with it may do at most.
    pub allows: Entitlements,
    /// Certificates that games with it may be signed by, as DER.
    pub certificates: Vec<Vec<u8>>,
    /// Who signed it.
    pub signer: Signer,
}

impl Profile {
    /// Reads one and verifies its signature.
    ///
    /// # Errors
    /// [`FormatError`] for bytes that are none.
    pub fn read(bytes: &[u8]) -> Result<Self, FormatError> {
        let message = Message::read(bytes)?;
        let (_, content) = message.content();
        let content = content.filter(|any| any.tag() == Tag::OctetString);
        let content = content.ok_or(FormatError::Not { format: "a profile" })?.value();
        let signer = message.verify(content);
        let all = plist::read(content)?;
        let text = |key: &str| all.get(key).and_then(Value::text).map(str::to_owned);
        let list = |key: &str| all.get(key).map_or(&[][..], Value::list);
        let is_on = |key: &str| all.get(key) == Some(&Value::Flag(true));
        let allows = Entitlements(all.get("Entitlements").and_then(Value::dictionary).cloned().unwrap_or_default());
        let is_debug = ["get-task-allow", "com.apple.security.get-task-allow"].iter().any(|word| allows.is_on(word));
        let reach = if is_debug {
            Reach::Development
        } else if is_on("ProvisionsAllDevices") {
            Reach::Everywhere
        } else if all.contains_key("ProvisionedDevices") {
            Reach::Named(list("ProvisionedDevices").len())
        } else {
            Reach::Shop
        };
        Ok(Self {
            name: text("Name").unwrap_or_default(),
            teams: list("TeamIdentifier").iter().filter_map(Value::text).map(str::to_owned).collect(),
            expires: match all.get("ExpirationDate") {
                Some(Value::Date(date)) => Some(date.clone()),
                _ => None,
            },
            reach,
            allows,
            certificates: list("DeveloperCertificates").iter().filter_map(Value::data).map(<[u8]>::to_vec).collect(),
            signer,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::samples::{Key, der, plain, seed};

    fn profile(more: &str) -> Vec<u8> {
        let list = format!(
            "<plist><dict><key>Name</key><string>Saltmarsh</string>
             <key>TeamIdentifier</key><array><string>HERON12345</string></array>
             <key>ExpirationDate</key><date>2027-11-23T12:00:00Z</date>{more}</dict></plist>"
        );
        let content = der(0x04, &[list.as_bytes()]);
        Key::new("Paper Heron").message("1.2.840.113549.1.7.1", Some(&content), list.as_bytes(), &plain)
    }

    #[test]
    fn what_a_profile_says() {
        seed("list", "profile", &profile(""));
        let found =
            Profile::read(&profile("<key>DeveloperCertificates</key><array><data>Zm9v</data></array>")).unwrap();
        assert_eq!((found.signer.wrong, found.reach), (None, Reach::Shop));
        assert_eq!((found.name.as_str(), found.teams), ("Saltmarsh", vec!["HERON12345".to_owned()]));
        assert_eq!(
            (found.expires.as_deref(), found.certificates),
            (Some("2027-11-23T12:00:00Z"), vec![b"foo".to_vec()])
        );
        let reach = |more: &str| Profile::read(&profile(more)).unwrap().reach;
        let devices = "<key>ProvisionedDevices</key><array><string>1</string><string>2</string></array>";
        assert_eq!(reach(devices), Reach::Named(2));
        assert_eq!(reach("<key>ProvisionsAllDevices</key><true/>"), Reach::Everywhere);
        let debug = "<key>Entitlements</key><dict><key>get-task-allow</key><true/></dict>";
        assert_eq!(reach(&format!("{debug}{devices}")), Reach::Development);
    }

    #[test]
    fn a_profile_that_was_changed() {
        let mut bytes = profile("");
        let at = bytes.windows(9).position(|w| w == b"Saltmarsh").unwrap();
        bytes[at] = b'M';
        assert!(Profile::read(&bytes).unwrap().signer.wrong.is_some());
        assert!(Profile::read(b"<plist><dict/></plist>").is_err());
    }

    #[test]
    fn entitlements_within_those_of_a_profile() {
        let list =
            |text: &str| Entitlements(plist::read(format!("<plist><dict>{text}</dict></plist>").as_bytes()).unwrap());
        let limit = list(
            "<key>application-identifier</key><string>HERON12345.example.*</string>
             <key>groups</key><array><string>HERON12345.*</string></array><key>push</key><string>production</string>",
        );
        let fits = list(
            "<key>application-identifier</key><string>HERON12345.example.saltmarsh</string>
             <key>groups</key><array><string>HERON12345.post</string></array>",
        );
        assert!(fits.beyond(&limit).is_empty());
        let wide = list(
            "<key>application-identifier</key><string>OTHER.example.saltmarsh</string><key>push</key><true/>
             <key>health</key><true/>",
        );
        assert_eq!(wide.beyond(&limit), ["application-identifier", "health", "push"]);
    }
}
