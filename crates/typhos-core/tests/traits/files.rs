//! How files are laid out: headers, lines around the table, short records, quotes.

use super::{Trait, text, times};

pub fn traits() -> Vec<Trait> {
    let zones = "AD\t+4230\tEurope/Andorra\nAE,OM\t+2518\tAsia/Dubai\tCrozet\nAF\t+3431\tAsia/Kabul\n\
                 AL\t+4120\tEurope/Tirane\nAM\t+4011\tAsia/Yerevan\nAQ\t-6617\tAntarctica/Casey\tCasey\n";
    let unclosed = "id,name\n1,Holm\n2,\"Tang\n".to_owned() + &times(40, "#,Sker\n");
    let long_text =
        "id,name,n\n1,Holm,5\n2,\"Tang\nand more of it\n".to_owned() + &times(20, "#,Sker,7\n");
    let total = "port,day,n\n".to_owned() + &times(12, "Holm,1,#\n") + "Total,,204\n";
    let footnote = "port,day,n\n".to_owned()
        + &times(12, "Holm,1,#\n")
        + "\nSource: the harbour office\n* not counted\n";
    let codes =
        "AA\tArran\nAB\tAbelsund\nAC\tAcker Holm\nAD\tAdder Bay\nAE\tAegir Head\nAF\tAfton\n";
    vec![
        text("a table", "a,b\n1,x\n2,y\n", "comma | a: uint8 | b: text"),
        text("no header", "1,x\n2,y\n", "comma headless | column_1: uint8 | column_2: text"),
        text("semicolons", "a;b\n1;2,5\n2;3,5\n", "semicolon | a: uint8 | b: decimal(2,1)"),
        text("tabs", "a\tb\n1\t2\n", "tab | a: uint8 | b: uint8"),
        text("pipes", "a|b\n1|2\n", "pipe | a: uint8 | b: uint8"),
        text(
            "short records, as zones have them",
            zones,
            "tab headless short | column_1: text | column_2: int16 | column_3: text | column_4: text",
        ),
        text(
            "short records below a whole header",
            "version,name,release,end\n1.1,Buzz,1996-06-17,1997-06-05\n1.2,Rex,1996-12-12\n1.3,Bo,1997-06-05\n2.0,Hamm,1998-07-24,2000-03-09\n9.1,Sid\n",
            "comma short | version: decimal(2,1) | name: text | release: date yyyy-MM-dd | end: date yyyy-MM-dd",
        ),
        text(
            "all records are short",
            "a,b,c\n1,2\n3,4\n5,6\n",
            "comma short | a: uint8 | b: uint8 | c: text",
        ),
        text(
            "one short record is a mistake",
            "a,b,c\n1,2,3\n4,5\n6,7,8\n9,1,2\n3,4,5\n6,7,8\n9,1,2\n3,4,5\n6,7,8\n9,1,2\n3,4,5\n",
            "comma broken 1 | a: uint8 | b: uint8 | c: uint8",
        ),
        text(
            "no short records: fields are missing in the middle",
            "n,name,m,k\n1,Holm,5,6\n2,7,8\n3,Tang,5,6\n4,7,8\n5,Sker,5,6\n6,9,9\n",
            "comma broken 3 | n: uint8 | name: text | m: uint8 | k: uint8",
        ),
        text(
            "no short records: prose",
            "It was, as they said, a fine day\nand nobody, not even the captain, knew, or cared\nwhat came, in the end\nof it, all, of, it\nthe end, he said\n",
            "comma broken 2 | It was: text |  as they said: text |  a fine day: text | column_4: text",
        ),
        text(
            "a quote that is never closed",
            &unclosed,
            "comma broken 1 | id: uint8 | name: category",
        ),
        text(
            "such a quote, and lines that are no records",
            &long_text,
            "comma broken 1 | id: uint8 | name: lowcard | n: uint8",
        ),
        text(
            "line breaks in quotes",
            "id,note\n1,\"a\nb\"\n2,\"c\n\nd\"\n",
            "comma | id: uint8 | note: text",
        ),
        text(
            "a quote in a value",
            "id,note\n1,5\" pipe\n2,6\" pipe\n",
            "comma | id: uint8 | note: text",
        ),
        text(
            "titles above the table",
            "Sailings\n\nAll of them\nport,day,n\nHolm,1,2\nTang,3,4\n",
            "comma skip 3 | port: text | day: uint8 | n: uint8",
        ),
        text(
            "a title with as many delimiters as the table",
            "Sailings, all ports, 2024\nas told by the harbour office\nport,day,n\nHolm,1,2\nTang,3,4\nSker,5,6\n",
            "comma skip 2 | port: text | day: uint8 | n: uint8",
        ),
        text(
            "such a title above a blank line",
            "Sailings, all ports, 2024\nas told by the harbour office\n\nport,day,n\nHolm,1,2\nTang,3,4\nSker,5,6\n",
            "comma skip 3 | port: text | day: uint8 | n: uint8",
        ),
        text(
            "no title: a header and a broken record",
            "port,day,n\nHolm\nTang,3,4\nSker,5,6\nHolm,7,8\n",
            "comma broken 1 | port: text | day: uint8 | n: uint8",
        ),
        text(
            "lines are those of an editor",
            "made by hand\rand by night\nport,day,n\nHolm,1,2\nTang,3,4\n",
            "comma skip 2 | port: text | day: uint8 | n: uint8",
        ),
        text(
            "units below the header",
            "time,depth,temp\ns,m,degC\n1,5.5,7.25\n2,6.5,7.5\n3,7.5,8.25\n",
            "comma below 1 | time: uint8 | depth: decimal(2,1) | temp: decimal(3,2)",
        ),
        text(
            "units in brackets, of one column",
            "port,depth\n,[m]\nHolm,5.5\nTang,6.5\n",
            "comma below 1 | port: text | depth: decimal(2,1)",
        ),
        text(
            "no units: a value that is missing",
            "port,depth\nHolm,unknown\nTang,6.5\nSker,7.5\n",
            "comma | port: text | depth: text",
        ),
        text(
            "no units: values that are missing in all columns",
            "depth,temp\nunknown,lost at sea\n6.5,7.5\n7.5,8.5\n",
            "comma | depth: text | temp: text",
        ),
        text(
            "units that are written as terms",
            "depth,flow\nfathoms,l/s\n6.5,7.5\n7.5,8.5\n",
            "comma below 1 | depth: decimal(2,1) | flow: decimal(2,1)",
        ),
        text(
            "pairs above a table are no short records",
            "Station:,Holm\nPeriod:,2024\ntime,depth,temp,salt\n1,5.5,7.5,3\n2,6.5,7.5,4\n3,6.5,8.5,5\n4,6.5,8.5,5\n",
            "comma skip 2 | time: uint8 | depth: decimal(2,1) | temp: decimal(2,1) | salt: uint8",
        ),
        text(
            "remarks with delimiters below a table are no short records",
            "port,day,n,m\nHolm,1,5,6\nTang,2,5,6\nSker,3,5,6\nAran,4,5,6\nBo,5,5,6\nCy,6,5,6\nas told, by hand\nand counted, twice\n",
            "comma broken 2 | port: text | day: uint8 | n: uint8 | m: uint8",
        ),
        text("no units: no value", "a,b\nNA,NA\n1,2\n3,4\n", "comma | a: uint8 | b: uint8"),
        text("a total at the end", &total, "comma end 1 | port: lowcard | day: uint8 | n: uint8"),
        text(
            "remarks at the end",
            &footnote,
            "comma end 2 broken 2 | port: lowcard | day: uint8 | n: uint8",
        ),
        text(
            "no total: a port of that name",
            "port,n\nTotal,1\nHolm,2\nTotal,3\nTang,4\nSker,5\nTotal,6\n",
            "comma | port: text | n: uint8",
        ),
        text(
            "codes above codes are no header",
            codes,
            "tab headless | column_1: text | column_2: text",
        ),
        text(
            "names above codes are",
            &("code\tname\n".to_owned() + codes),
            "tab | code: text | name: text",
        ),
        text(
            "a header with fewer names than columns",
            "port,day\nHolm,1,2\nTang,3,4\nSker,5,6\n",
            "comma | port: text | day: uint8 | column_3: uint8",
        ),
        text(
            "a header with fewer names, of rows that have names",
            "depth salt\nHolm 12 3.5\nTang 7 3.25\nSker 9 3.0\n",
            "space | column_1: text | depth: uint8 | salt: decimal(3,2)",
        ),
        text(
            "a delimiter at the end of the header",
            "port,day,\nHolm,1\nTang,2\n",
            "comma | port: text | day: uint8",
        ),
        text(
            "a delimiter at the end of all",
            "port,day,\nHolm,1,\nTang,2,\n",
            "comma | port: text | day: uint8",
        ),
        text(
            "names that come twice",
            "a,b,a\n1,2,3\n4,5,6\n",
            "comma | a: uint8 | b: uint8 | a_2: uint8",
        ),
        text(
            "names that come twice, beside one that is taken",
            "a,a,a_2\n1,2,3\n4,5,6\n",
            "comma | a: uint8 | a_3: uint8 | a_2: uint8",
        ),
        text(
            "a column without a name",
            "a,,c\n1,2,3\n4,5,6\n",
            "comma | a: uint8 | column_2: uint8 | c: uint8",
        ),
        text(
            "numbers for names",
            ",0,1\na,5,6\nb,7,8\n",
            "comma | column_1: text | 0: uint8 | 1: uint8",
        ),
        text(
            "no numbers for names: a record without its first value",
            ",0,1\na,5,6\n,7,8\n",
            "comma headless | column_1: text | column_2: uint8 | column_3: uint8",
        ),
        text(
            "words that head columns, one of which is a value too",
            "Country,Group,ID\nSkerrow,North,SK\nHolm,South,HO\nIdle Bay,South,ID\nTang,North,TA\n",
            "comma | Country: text | Group: lowcard | ID: text",
        ),
        text(
            "records above others that have a field more are no title",
            "Holm,1,2,3,4\nTang,1,2,3,4\nSker,5,6,7,8,9\nAran,5,6,7,8,9\nBo,5,6,7,8,9\nCy,5,6,7,8,9\nEd,5,6,7,8,9\n",
            "comma headless broken 2 | column_1: text | column_2: uint8 | column_3: uint8 | column_4: uint8 | column_5: uint8 | column_6: uint8",
        ),
        text(
            "a quote in the header that is never closed",
            "id,\"name\n1,Holm\n2,Tang\n",
            "FILE, line 1: the header that starts here has a quote that is never closed; close the quote, or say header = false if it is not a header, or quote = none if quotes mean nothing in this file",
        ),
        text(
            "a quote in the header that a record closes",
            "\"id\",\"name\n\"1\",\"Holm\"\n\"2\",\"Tang\"\n",
            "FILE, line 1: the header that starts here goes over several lines and has text behind a quote; close the quote, or say header = false if it is not a header, or quote = none if quotes mean nothing in this file",
        ),
        text(
            "a header over two lines",
            "id,\"name\n(local)\"\n1,Holm\n2,Tang\n",
            "comma | id: uint8 | name\n(local): text",
        ),
        text(
            "a quote that the next record closes takes one record",
            "\"a\",\"b\"\n\"1\",\"2\n\"3\",\"4\"\n\"5\",\"6\"\n\"7\",\"8\"\n",
            "comma broken 1 | a: uint8 | b: uint8",
        ),
        text(
            "a report of a spreadsheet",
            "Skerrow Ferries,,,\nMonthly report,March,,\n,,,\nRoute,Trips,Day,Fare\nHolm,3,1,5.50\nTang,4,2,6.50\nSker,5,3,7.50\nAran,6,4,8.50\nTotal,18,,28.00\n,,,\nPrepared by: Anna,,,\n",
            "comma skip 3 end 3 | Route: text | Trips: uint8 | Day: uint8 | Fare: decimal(4,2)",
        ),
        text(
            "no report: a header with a gap",
            ",Trips,Day\nHolm,3,1\nTang,4,2\n",
            "comma | column_1: text | Trips: uint8 | Day: uint8",
        ),
        text(
            "a logger: units, and what was made of many",
            "Holm,logger 7\nTime,Record,Batt,Temp\nTS,RN,Volts,Deg C\n,,Avg,Smp\n2024-03-01 00:00:00,1,12.5,5.1\n2024-03-01 00:01:00,2,12.4,5.2\n2024-03-01 00:02:00,3,12.3,5.3\n",
            "comma skip 1 below 2 | Time: timestamp(s) yyyy-MM-dd HH:mm:ss | Record: uint8 | Batt: decimal(3,1) | Temp: decimal(2,1)",
        ),
        text(
            "comments",
            "# made by hand\na,b\n1,2\n# so far\n3,4\n",
            "comma comments | a: uint8 | b: uint8",
        ),
        text(
            "names in the last comment above the table",
            "## made by hand\n## on one day\n#port\tday\tn\nHolm\t1\t5\nTang\t2\t6\n",
            "tab skip 2 | #port: text | day: uint8 | n: uint8",
        ),
        text(
            "no names: comments below as well",
            "#port,day,n\nHolm,1,5\n# so far\nTang,2,6\n",
            "comma headless comments | column_1: text | column_2: uint8 | column_3: uint8",
        ),
        text(
            "no names: a comment that splits like a record by chance",
            "# by one\n# Made by hand, as told\nHolm,1\nSker,2\nTang,3\nAran,4\n",
            "comma headless comments | column_1: text | column_2: uint8",
        ),
        text(
            "comments by another mark",
            "! made by hand\n! on one day, in one place\nHolm,1,5\nTang,2,6\n!Sker,2\nAran,3,7\n",
            "comma headless comments | column_1: text | column_2: uint8 | column_3: uint8",
        ),
        text(
            "comments, and a mark that would separate",
            "# names\n00DF; 0053 # one\n# more\n0130; 0069 # two\nFB00; 0046 # three\n",
            "semicolon headless comments | column_1: text | column_2: text",
        ),
        text("no comments: tags", "tag,n\n#x,1\n#y,2\n", "comma | tag: text | n: uint8"),
        text(
            "the delimiter is named",
            "sep=;\na;b\n1;2\n",
            "semicolon skip 1 | a: uint8 | b: uint8",
        ),
        text("blank lines", "a,b\n\n1,2\n\n3,4\n", "comma | a: uint8 | b: uint8"),
        text(
            "prose above one column",
            "Depths of the harbour, as measured by the office\n5.5\n6.5\n7.5\n",
            "comma headless skip 1 | column_1: decimal(2,1)",
        ),
        text(
            "no prose: a header of one column, with a delimiter in it",
            "depth, m\n5.5\n6.5\n7.5\n",
            "comma broken 3 | depth: text |  m: text",
        ),
        text("one column", "port\nHolm\nTang\n", "comma | port: text"),
        text(
            "codes that start with digits are no header",
            "0000..001F; Holm\n0020..00FF; Tang\n0100..017F; Sker\n0180..024F; Aran\n",
            "semicolon headless | column_1: text | column_2: text",
        ),
        text(
            "nor are they where some start with letters",
            "0041;A\n00C6;AE\n0141;L\nFB01;fi\n",
            "semicolon headless | column_1: text | column_2: text",
        ),
        text(
            "points of a scale as names",
            "port,0.5,1.0,1.5,2.0\nHolm,1.5,0.5,0.2,7.0\nTang,2.5,9.5,1.0,3.0\n",
            "comma | port: text | 0.5: decimal(2,1) | 1.0: decimal(2,1) | 1.5: decimal(2,1) | 2.0: decimal(2,1)",
        ),
        text(
            "no scale: all records rise",
            "Holm,1,2,3,4\nTang,2,4,6,8\nSker,3,5,7,9\n",
            "comma headless | column_1: text | column_2: uint8 | column_3: uint8 | column_4: uint8 | column_5: uint8",
        ),
        text(
            "no scale: three numbers that rise by chance",
            "Holm,1,2,4\nTang,2,1,6\nSker,3,5,2\n",
            "comma headless | column_1: text | column_2: uint8 | column_3: uint8 | column_4: uint8",
        ),
        text(
            "two years as names",
            "port,unit,2010,2020\nHolm,t,27.3,28.3\n",
            "comma | port: text | unit: text | 2010: decimal(3,1) | 2020: decimal(3,1)",
        ),
        text(
            "no names: years of every record",
            "Holm,t,2010,2020\nTang,t,2012,2019\n",
            "comma headless | column_1: text | column_2: lowcard | column_3: uint16 | column_4: uint16",
        ),
        text(
            "a word above many numbers, and a number",
            &("x,1\n".to_owned() + &times(12, "#.5,0.25\n")),
            "comma | x: decimal(3,1) | 1: decimal(2,2)",
        ),
        text(
            "a header with more names than all records but the last",
            "code,n,m,east,west\nA,1,2\nB,2,3\nC,3,4\nD,4,5\nE,5,6,7,8\n",
            "comma short | code: text | n: uint8 | m: uint8 | east: uint8 | west: uint8",
        ),
        text(
            "remarks of two texts below records of many fields",
            &("port,a,b,c,d\n".to_owned()
                + &times(6, "Holm,#,2,3,4\n")
                + "Source: the office,by hand\n"),
            "comma end 1 broken 1 | port: lowcard | a: uint8 | b: uint8 | c: uint8 | d: uint8",
        ),
        text(
            "lines of unequal width, all of them with tabs",
            "1\tHolm\tin\n2\tTang\n3\tSker\ta\tb, c\n4\tAran\tx\ty\tz, and more, and more\n5\tBo\t1\t2\t3\t4\n",
            "tab headless broken 4 | column_1: uint8 | column_2: text | column_3: uint8 | column_4: uint8 | column_5: uint8 | column_6: uint8",
        ),
        text(
            "lines of unequal width without a comma are lines",
            "1\tHolm\tin\n2\tTang\n3\tSker\ta\tb\n4\tAran\tx\ty\tz\n5\tBo\t1\t2\t3\t4\n",
            "comma headless | column_1: text",
        ),
        text(
            "names in two lines, and one of the rows",
            ",2023,2023,2024,2024\n,kg,m,kg,m\nport,,,,\nHolm,1,2,3,4\nTang,3,2,5,1\n",
            "comma below 2 | column_1: text | 2023: uint8 | 2023_2: uint8 | 2024: uint8 | 2024_2: uint8",
        ),
        text(
            "years as names",
            "port,2019,2020,2021\nHolm,1,2,5\nTang,3,4,1\n",
            "comma | port: text | 2019: uint8 | 2020: uint8 | 2021: uint8",
        ),
    ]
}
