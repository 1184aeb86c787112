const depth: number = "low";
function slack(a: { tide: number; late: string }): number {
    return a.tide + a.missing;
}
slack({ tide: 1 });
