//! Loads into search indexes: one on a server, which the stand-in is, and one in a directory.

mod embedded;
mod faults;
mod independent;
mod loads;
mod server;
mod values;
