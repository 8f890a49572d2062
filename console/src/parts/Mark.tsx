/** A small geometric pigeon, three shapes. */
export function Mark() {
  return (
    <svg viewBox="0 0 32 32" aria-hidden="true">
      <path d="M4 20a10 10 0 0 1 10-10h7v4a10 10 0 0 1-10 10H2z" fill="var(--teal)" />
      <circle cx="22" cy="10" r="5" fill="var(--plum)" />
      <path d="M26.5 8.5 31 10.500l-4.5 1.600z" fill="var(--look)" />
    </svg>
  );
}
