//! Signing packages, bundles and programs, verified by our own reader, by general tools, and against damage at any byte.

#[cfg(test)]
mod code;
#[cfg(test)]
mod packages;
#[cfg(test)]
mod programs;
#[cfg(test)]
mod rotation;
#[cfg(test)]
mod scene;
#[cfg(test)]
mod stamp;
// Where they are part of the system.
#[cfg(test)]
#[cfg(target_os = "linux")]
mod tools;
