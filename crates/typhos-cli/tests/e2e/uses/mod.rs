//! Typed rows that are looked at, grouped, asked and told of.

mod answers;
mod pages;
mod rows;
