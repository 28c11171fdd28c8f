//! How a configured storefront becomes one that can be asked.

use std::sync::Arc;

use lantern_core::config::StorefrontKind;

use crate::by_hand::ByHand;
use crate::http::HttpStorefront;
use crate::opening::Opening;
use crate::{Storefront, StorefrontError};

/// Opens a storefront of any kind; nothing is sent yet.
///
/// # Errors
/// [`StorefrontError::Unreachable`] when this computer cannot speak to it at all, [`StorefrontError::Unable`] for a storefront by
/// hand of which the opening does not say what is known.
pub fn open(kind: &StorefrontKind, opening: Opening) -> Result<Arc<dyn Storefront>, StorefrontError> {
    match kind {
        StorefrontKind::Protocol(at) => Ok(Arc::new(HttpStorefront::open(&at.address, opening)?)),
        StorefrontKind::ByHand(_) | StorefrontKind::Connector(_) => match opening.said {
            Some(said) => Ok(Arc::new(ByHand::new(*said))),
            None => Err(StorefrontError::Unable { address: "it".to_owned(), what: "be installed from with this tool" }),
        },
    }
}
