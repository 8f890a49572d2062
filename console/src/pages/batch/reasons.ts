/** Why rows are left out, in words. */
export const reasons: Record<string, string> = {
  unreadable: "cells that cannot be told apart",
  number: "no number",
  line: "a line that takes no texts",
  repeated: "the number stands there before",
  opted_out: "opted out",
  no_route: "no gateway takes it",
  sender: "the country does not take the sender",
  field: "a field is missing or wrong",
  too_long: "too long",
  link: "a link where none may be",
  time: "a time that is none, or over",
  text: "the text cannot go",
  other: "something else",
};
