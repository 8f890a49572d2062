def map(f): [.[] | f];
def add(f): [f] | add;
def map_values(f):
  if type == "array" then [.[] | first(f)]
  else [keys[] as $k | .[$k] | first(f) | {key: $k, value: .}] | from_entries end;
def to_entries: [keys[] as $k | {key: $k, value: .[$k]}];
def from_entries: [.[] | {(.key // .name): .value}] | add // {};
def with_entries(f): to_entries | map(f) | from_entries;
def min_by(f): [.[] | [f]] as $by | _min_by($by);
def max_by(f): [.[] | [f]] as $by | _max_by($by);
def sort_by(f): [.[] | [f]] as $by | _sort_by($by);
def group_by(f): [.[] | [f]] as $by | _group_by($by);
def unique_by(f): [.[] | [f]] as $by | _unique_by($by);
def fromdateiso8601: strptime("%Y-%m-%dT%H:%M:%S%z") | mktime;
def fromdate: fromdateiso8601;
def todateiso8601: strftime("%Y-%m-%dT%H:%M:%SZ");
def todate: todateiso8601;
def match($re; $flags): _match($re; $flags; false)[];
def match($re): match($re; null);
def test($re; $flags): _match($re; $flags; true);
def test($re): test($re; null);
def capture($re; $flags): match($re; $flags) | .captures | _captures;
def capture($re): capture($re; null);
def scan($re; $flags): match($re; $flags + "g") | if .captures == [] then .string else [.captures[].string] end;
def scan($re): scan($re; null);
def splits($re; $flags):
  . as $in
  | foreach (match($re; $flags + "g"), null) as $m ({next: 0};
      {from: .next, next: ($m | if . then .offset + .length else 0 end)};
      if $m then $in[.from:$m.offset] else $in[.from:] end);
def splits($re): splits($re; null);
def split($re; $flags): [splits($re; $flags)];
def sub($re; str; $flags):
  . as $in
  | [foreach (match($re; $flags), null) as $m ({next: 0};
      {from: .next, next: ($m | if . then .offset + .length else 0 end)};
      if $m then $in[.from:$m.offset], ($m.captures | _captures | first(str)) else $in[.from:] end)]
  | add;
def sub($re; str): sub($re; str; null);
def gsub($re; str; $flags): sub($re; str; $flags + "g");
def gsub($re; str): sub($re; str; "g");
