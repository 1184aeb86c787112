mod gauge;

fn main() {
    let depth = 4;
    let slack = 5;
    println!("{}", gauge::low());
}
