/** What an address is made of, in the order in which it is typed. */
export const addressFields = [
  ["name", "Name"],
  ["company", "Company"],
  ["street", "Street and number"],
  ["extra", "Second line"],
  ["postcode", "Postcode"],
  ["town", "Town"],
  ["country", "Country, two letters"],
  ["phone", "Telephone"],
] as const;
