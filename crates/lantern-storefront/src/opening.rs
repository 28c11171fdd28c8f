//! As whom a storefront is asked, and what it is to know.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use lantern_core::invitation::Invitation;
use lantern_core::names::{Handle, Name};

use crate::by_hand::SaidThere;

/// A name and its secret for unattended use. Source: RFC 6749, section 4.4.
#[derive(Clone, PartialEq, Eq)]
pub struct Access {
    /// As whom.
    pub client_id: String,
    /// Shown nowhere.
    pub client_secret: String,
}

impl std::fmt::Debug for Access {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Access({}, secret not shown)", self.client_id)
    }
}

/// Is called with the time that is waited, and the reason.
type Tell = dyn Fn(Duration, &str) + Send + Sync;

/// Hears for how long is waited, and why.
#[derive(Clone)]
pub struct OnWait(Arc<Tell>);

impl OnWait {
    /// Calls this before each longer wait.
    pub fn new(tell: impl Fn(Duration, &str) + Send + Sync + 'static) -> Self {
        Self(Arc::new(tell))
    }

    pub(crate) fn tell(&self, time: Duration, why: &str) {
        (self.0)(time, why);
    }
}

impl std::fmt::Debug for OnWait {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OnWait")
    }
}

/// An invitation, and the number of the installed folder that uses it.
#[derive(Debug, Clone)]
pub struct Invited {
    /// The invitation.
    pub invitation: Invitation,
    /// Random, made once by each folder.
    pub folder: String,
}

/// As whom a storefront is asked, and what it is to know. The default asks as a stranger who waits for nobody to stop it.
#[derive(Debug, Clone, Default)]
pub struct Opening {
    /// As one of those who make the game.
    pub access: Option<Access>,
    /// What a player's machine shows, where it has been invited.
    pub invited: Option<Invited>,
    /// What the storefront calls our branches, where that is something else.
    pub branches: BTreeMap<Name, Handle>,
    /// Hears of waiting.
    pub on_wait: Option<OnWait>,
    /// Of a storefront by hand: what people said of it.
    pub said: Option<Box<SaidThere>>,
    /// Ends waiting and trying again once it is set.
    pub stop: Arc<AtomicBool>,
}
