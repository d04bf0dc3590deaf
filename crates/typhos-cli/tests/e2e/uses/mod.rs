//! Typed rows that are looked at, grouped, asked and told of.

mod answers;
mod compared;
mod pages;
mod questions;
mod rows;
