pub fn low() -> i32 {
    return 3;
    let x = 4;
}

fn trace() {}
