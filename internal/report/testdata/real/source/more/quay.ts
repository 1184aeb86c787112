export const x = ;
