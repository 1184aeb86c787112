mod gauge;

fn main() {
    let depth = 4;
    let slack: i32 = "s";
    println!("{}", gauge::low());
}
