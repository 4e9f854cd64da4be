/** How often windows had to be filled again from the store, for all windows together. */
export const refills = { count: 0 };
