//! Options about the rules by which types are chosen.

use clap::Args as ClapArgs;
use typhos_core::infer::{
    Fractions, House, Naming, Never, Objects, Orders, Strings, parse_headroom, parse_quoted,
    parse_share,
};
use typhos_core::readings::{Mark, Side};

use super::values::parse_never;

/// The rules by which types are chosen. All but the last three can stand in a settings file too.
#[derive(Debug, Clone, Default, ClapArgs)]
#[command(next_help_heading = "Types")]
pub struct RuleArgs {
    /// How many times further than the extremes seen a number type must reach; 1 for the tightest
    /// [default: 2]
    #[arg(long, value_name = "FACTOR", value_parser = parse_headroom)]
    pub headroom: Option<f64>,

    /// The share of values that may be misfits of a type, as in 0.1%, where the column would be text
    /// otherwise
    #[arg(long, value_name = "SHARE", value_parser = parse_share)]
    pub tolerate: Option<f64>,

    /// The order of dates that could be read in more than one: dmy, mdy or ymd; of one column as in
    /// sold_on:dmy; repeatable
    #[arg(long, value_name = "[COL:]ORDER", value_parser = Orders::parse)]
    pub date_order: Vec<Orders>,

    /// The decimal mark of numbers that could be read with either: '.' or ','
    #[arg(long, value_name = "MARK", value_parser = Mark::parse)]
    pub decimal_mark: Option<Mark>,

    /// The side of accounts whose amounts are negative: DR or CR
    #[arg(long, value_name = "SIDE", value_parser = Side::parse)]
    pub negative: Option<Side>,

    /// A text that means "no value", in every column; repeatable
    #[arg(long, value_name = "TOKEN")]
    pub absent: Vec<String>,

    /// What numbers with a fraction become: exact (decimals) or float
    #[arg(long, value_name = "WHAT", value_parser = Fractions::parse)]
    pub fractions: Option<Fractions>,

    /// Types not to be drafted: as in 'category', or 'unsigned' for all unsigned integers
    #[arg(long, value_name = "TYPE,…", value_delimiter = ',', value_parser = parse_never)]
    pub never: Vec<Never>,

    /// What values in quotes are: text whatever they say, or any type
    #[arg(long, value_name = "text|any", value_parser = parse_quoted)]
    pub quoted: Option<bool>,

    /// What texts of JSON are: read (dates and other forms are found), numbers (those too), or text
    #[arg(long, value_name = "WHAT", value_parser = Strings::parse)]
    pub strings: Option<Strings>,

    /// What objects of JSON become: their members are columns (flat), or they are structs (keep)
    #[arg(long, value_name = "HOW", value_parser = Objects::parse)]
    pub nested: Option<Objects>,

    /// What columns are called: as in the header (keep), or in lower case with underscores (snake)
    #[arg(long, value_name = "HOW", value_parser = Naming::parse)]
    pub naming: Option<Naming>,

    /// These columns only; the others are not looked at
    #[arg(long, value_name = "COL,…", value_delimiter = ',', conflicts_with = "without")]
    pub only: Vec<String>,

    /// All columns but these
    #[arg(long, value_name = "COL,…", value_delimiter = ',')]
    pub without: Vec<String>,

    /// Look at the first N records only: a sample, and every report says so
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub rows: Option<u64>,
}

impl RuleArgs {
    /// What was typed of the rules of a house.
    pub fn house(&self) -> House {
        let mut orders = Orders::default();
        self.date_order.iter().for_each(|order| orders.add(order.clone()));
        House {
            headroom: self.headroom,
            tolerate: self.tolerate,
            date_order: Some(orders).filter(|_| !self.date_order.is_empty()),
            decimal_mark: self.decimal_mark,
            negative: self.negative,
            absent: Some(self.absent.clone()).filter(|texts| !texts.is_empty()),
            fractions: self.fractions,
            never: self.never.iter().copied().reduce(Never::and),
            quoted_text: self.quoted,
            strings: self.strings,
            nested: self.nested,
            naming: self.naming,
        }
    }
}
