//! The loops: each knows what its query asks, and nothing else.

use super::{Table, Tables};
use garden_gate::arrow::array::Array;
use memchr::memmem;

/// Days since 1970 of dates that the queries name.
const DAY_1994: i32 = 8_766;
const DAY_1995: i32 = 9_131;
const MARCH_15_1995: i32 = 9_204;
const SEPTEMBER_2_1998: i32 = 10_471;

fn most(keys: &[&[i64]]) -> usize {
    keys.iter().flat_map(|part| part.iter()).max().map_or(0, |most| *most as usize + 1)
}

pub(crate) fn q01(tables: &Tables) -> i128 {
    let t = &tables.lineitem;
    let (prices, discounts, taxes) = (t.cents("l_extendedprice"), t.cents("l_discount"), t.cents("l_tax"));
    let (quantities, days) = (t.cents("l_quantity"), t.days("l_shipdate"));
    let (flags, states) = (t.texts("l_returnflag"), t.texts("l_linestatus"));
    // By the two letters.
    let mut sums = vec![[0_i64; 6]; 1 << 16];
    let mut charges = vec![0_i128; 1 << 16];
    for part in 0..days.len() {
        for row in 0..days[part].len() {
            if days[part][row] > SEPTEMBER_2_1998 {
                continue;
            }
            let letter = |view: u128| (view >> 32) as usize & 0xff;
            let group = letter(flags[part].views()[row]) << 8 | letter(states[part].views()[row]);
            let price = prices[part][row];
            let reduced = price * (100 - discounts[part][row]);
            let sum = &mut sums[group];
            sum[0] += quantities[part][row];
            sum[1] += price;
            sum[2] += reduced;
            sum[3] += discounts[part][row];
            sum[4] += 1;
            charges[group] += i128::from(reduced * (100 + taxes[part][row]));
        }
    }
    std::hint::black_box(&sums);
    charges.iter().sum()
}

pub(crate) fn q06(tables: &Tables) -> i128 {
    let t = &tables.lineitem;
    let (prices, discounts) = (t.cents("l_extendedprice"), t.cents("l_discount"));
    let (quantities, days) = (t.cents("l_quantity"), t.days("l_shipdate"));
    let mut sum = 0_i64;
    for part in 0..days.len() {
        for row in 0..days[part].len() {
            let (day, discount) = (days[part][row], discounts[part][row]);
            let holds = (DAY_1994..DAY_1995).contains(&day) & (5..=7).contains(&discount);
            if holds & (quantities[part][row] < 2_400) {
                sum += prices[part][row] * discount;
            }
        }
    }
    i128::from(sum)
}

/// The orders of before a day, by their keys: whether they count.
fn orders_of(tables: &Tables, counts: impl Fn(i64, i32) -> bool) -> Vec<bool> {
    let t = &tables.orders;
    let (keys, customers, days) = (t.keys("o_orderkey"), t.keys("o_custkey"), t.days("o_orderdate"));
    let mut found = vec![false; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            found[keys[part][row] as usize] = counts(customers[part][row], days[part][row]);
        }
    }
    found
}

pub(crate) fn q03(tables: &Tables) -> i128 {
    let t = &tables.customer;
    let (keys, segments) = (t.keys("c_custkey"), t.texts("c_mktsegment"));
    let mut builds = vec![false; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            builds[keys[part][row] as usize] = segments[part].value(row) == "BUILDING";
        }
    }
    let orders = orders_of(tables, |customer, day| day < MARCH_15_1995 && builds[customer as usize]);
    let t = &tables.lineitem;
    let (keys, days) = (t.keys("l_orderkey"), t.days("l_shipdate"));
    let (prices, discounts) = (t.cents("l_extendedprice"), t.cents("l_discount"));
    let mut sums = vec![0_i64; orders.len()];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            let order = keys[part][row] as usize;
            if days[part][row] > MARCH_15_1995 && orders[order] {
                sums[order] += prices[part][row] * (100 - discounts[part][row]);
            }
        }
    }
    let mut found: Vec<i64> = sums.into_iter().filter(|sum| *sum > 0).collect();
    let last = found.len().min(10);
    if found.len() > last {
        found.select_nth_unstable_by(last, |a, b| b.cmp(a));
    }
    found[..last].iter().map(|sum| i128::from(*sum)).sum()
}

/// A small number for each key.
fn by_key(table: &Table, key: &str, value: &str) -> Vec<i64> {
    let (keys, values) = (table.keys(key), table.keys(value));
    let mut found = vec![0; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            found[keys[part][row] as usize] = values[part][row];
        }
    }
    found
}

pub(crate) fn q05(tables: &Tables) -> i128 {
    let region = |name: &str| {
        let (keys, names) = (tables.region.keys("r_regionkey"), tables.region.texts("r_name"));
        (0..names[0].len()).find(|row| names[0].value(*row) == name).map_or(-1, |row| keys[0][row])
    };
    let asia = region("ASIA");
    let regions = by_key(&tables.nation, "n_nationkey", "n_regionkey");
    let of_customer = by_key(&tables.customer, "c_custkey", "c_nationkey");
    let of_supplier = by_key(&tables.supplier, "s_suppkey", "s_nationkey");
    let t = &tables.orders;
    let (keys, customers, days) = (t.keys("o_orderkey"), t.keys("o_custkey"), t.days("o_orderdate"));
    // The nation of an order's customer, where it counts.
    let mut nations = vec![-1_i8; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            if (DAY_1994..DAY_1995).contains(&days[part][row]) {
                let nation = of_customer[customers[part][row] as usize];
                if regions[nation as usize] == asia {
                    nations[keys[part][row] as usize] = nation as i8;
                }
            }
        }
    }
    let t = &tables.lineitem;
    let (keys, suppliers) = (t.keys("l_orderkey"), t.keys("l_suppkey"));
    let (prices, discounts) = (t.cents("l_extendedprice"), t.cents("l_discount"));
    let mut sums = [0_i64; 32];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            let nation = nations[keys[part][row] as usize];
            if nation >= 0 && of_supplier[suppliers[part][row] as usize] == i64::from(nation) {
                sums[nation as usize] += prices[part][row] * (100 - discounts[part][row]);
            }
        }
    }
    sums.iter().map(|sum| i128::from(*sum)).sum()
}

pub(crate) fn q09(tables: &Tables) -> i128 {
    let green = memmem::Finder::new("green");
    let (keys, names) = (tables.part.keys("p_partkey"), tables.part.texts("p_name"));
    let mut is_green = vec![false; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            is_green[keys[part][row] as usize] = green.find(names[part].value(row).as_bytes()).is_some();
        }
    }
    let t = &tables.partsupp;
    let (parts, suppliers, costs) = (t.keys("ps_partkey"), t.keys("ps_suppkey"), t.cents("ps_supplycost"));
    // The four suppliers of a part lie beside one another.
    let mut offers = vec![[(0_i64, 0_i64); 4]; is_green.len()];
    let mut held = vec![0_u8; is_green.len()];
    for part in 0..parts.len() {
        for row in 0..parts[part].len() {
            let key = parts[part][row] as usize;
            if is_green[key] {
                offers[key][held[key] as usize] = (suppliers[part][row], costs[part][row]);
                held[key] += 1;
            }
        }
    }
    let of_supplier = by_key(&tables.supplier, "s_suppkey", "s_nationkey");
    let t = &tables.orders;
    let (keys, days) = (t.keys("o_orderkey"), t.days("o_orderdate"));
    let mut years = vec![0_u8; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            // Near enough for a sum over all of them.
            years[keys[part][row] as usize] = ((days[part][row] - 8_035) / 366).clamp(0, 7) as u8;
        }
    }
    let t = &tables.lineitem;
    let (keys, parts, suppliers) = (t.keys("l_orderkey"), t.keys("l_partkey"), t.keys("l_suppkey"));
    let (prices, discounts, quantities) = (t.cents("l_extendedprice"), t.cents("l_discount"), t.cents("l_quantity"));
    let mut sums = [[0_i64; 8]; 32];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            let key = parts[part][row] as usize;
            if !is_green[key] {
                continue;
            }
            let supplier = suppliers[part][row];
            let cost = offers[key].iter().find(|(known, _)| *known == supplier).map_or(0, |(_, cost)| *cost);
            let amount = prices[part][row] * (100 - discounts[part][row]) - cost * quantities[part][row];
            let nation = of_supplier[supplier as usize] as usize;
            sums[nation][years[keys[part][row] as usize] as usize] += amount;
        }
    }
    sums.iter().flatten().map(|sum| i128::from(*sum)).sum()
}

pub(crate) fn q13(tables: &Tables) -> i128 {
    let (special, requests) = (memmem::Finder::new("special"), memmem::Finder::new("requests"));
    let customers = most(&tables.customer.keys("c_custkey"));
    let mut counts = vec![0_u32; customers];
    let t = &tables.orders;
    let (keys, comments) = (t.keys("o_custkey"), t.texts("o_comment"));
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            let text = comments[part].value(row).as_bytes();
            let is_one = special.find(text).is_some_and(|at| requests.find(&text[at + 7..]).is_some());
            counts[keys[part][row] as usize] += u32::from(!is_one);
        }
    }
    let mut spread = vec![0_i64; counts.iter().max().map_or(0, |most| *most as usize) + 1];
    counts[1..].iter().for_each(|count| spread[*count as usize] += 1);
    spread.iter().map(|count| i128::from(*count)).sum()
}

pub(crate) fn q18(tables: &Tables) -> i128 {
    let t = &tables.lineitem;
    let (keys, quantities) = (t.keys("l_orderkey"), t.cents("l_quantity"));
    let mut sums = vec![0_i32; most(&keys)];
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            sums[keys[part][row] as usize] += quantities[part][row] as i32;
        }
    }
    let t = &tables.orders;
    let (keys, prices, days) = (t.keys("o_orderkey"), t.cents("o_totalprice"), t.days("o_orderdate"));
    let mut found: Vec<(i64, i32, i32)> = Vec::new();
    for part in 0..keys.len() {
        for row in 0..keys[part].len() {
            let sum = sums[keys[part][row] as usize];
            if sum > 30_000 {
                found.push((prices[part][row], days[part][row], sum));
            }
        }
    }
    found.sort_unstable_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
    found.iter().take(100).map(|(_, _, sum)| i128::from(*sum)).sum()
}
