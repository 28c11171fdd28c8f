//! Drives the built program against the real stand-in, on files in a temporary folder.

mod access;
mod chain;
mod configuration;
mod demo;
mod env;
mod exports;
mod faults;
mod installing;
mod races;
