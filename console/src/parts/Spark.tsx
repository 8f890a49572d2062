const [width, height] = [168, 22];

/** Values over time, as a line without figures; where there is none it has a gap. Of fewer than three nothing is drawn. */
export function Spark({ values, label }: { values: (number | null)[]; label: string }) {
  if (values.filter((v) => v !== null).length < 3) return null;
  const top = Math.max(...values.map((v) => v ?? 0), 1);
  const x = (i: number) => (values.length < 2 ? width / 2 : (i / (values.length - 1)) * (width - 4) + 2);
  const y = (v: number) => height - 2 - (v / top) * (height - 4);
  let drawn = "";
  const alone: number[] = [];
  values.forEach((v, i) => {
    if (v === null) return;
    const before = i > 0 && values[i - 1] !== null;
    const after = i < values.length - 1 && values[i + 1] !== null;
    drawn += `${before ? "L" : "M"}${x(i).toFixed(1)} ${y(v).toFixed(1)}`;
    if (!before && !after) alone.push(i);
  });
  return (
    <svg className="spark" width={width} height={height} role="img" aria-label={label}>
      <path d={drawn} fill="none" stroke="var(--teal)" strokeWidth="1.5" strokeLinejoin="round" />
      {alone.map((i) => (
        <circle key={i} cx={x(i)} cy={y(values[i]!)} r="1.75" fill="var(--teal)" />
      ))}
    </svg>
  );
}
