//! The use cases as others call them, with a stand-in storefront and without the program.

#[cfg(test)]
mod beginning;
#[cfg(test)]
mod by_hand;
#[cfg(test)]
mod chain;
#[cfg(test)]
mod changing;
#[cfg(test)]
mod keeping;
#[cfg(test)]
mod knowing;
#[cfg(test)]
mod players;
#[cfg(test)]
mod scene;
