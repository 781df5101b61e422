/** Our own line set on a grid of 16 units, stroke 1.5. Icons are decoration: words stand beside them. */
const shapes = {
  today: <path d="M1.5 12.5h13M4 12.5a4 4 0 0 1 8 0M8 3v2M2.7 6l1.4 1.2M13.3 6l-1.4 1.2" />,
  play: <path d="M5 3l8 5-8 5z" fill="currentColor" />,
  pause: <path d="M5 3v10M11 3v10" />,
  visits: <path d="M2 4h12M2 8h12M2 12h7" />,
  map: <path d="M1.5 4 6 2.5l4 1.5 4.5-1.5v9.5L10 13.5 6 12l-4.5 1.5zM6 2.5V12M10 4v9.5" />,
  lookup: (
    <>
      <circle cx="7" cy="7" r="4.5" />
      <path d="m10.5 10.5 4 4" />
    </>
  ),
  trail: <path d="M3 2v12M3 4h5M3 8.5h8M3 13h10M10 4h.1" />,
  atlas: <path d="m8 2 6 3-6 3-6-3zM2 8l6 3 6-3M2 11l6 3 6-3" />,
  gate: <path d="M1.5 5.5h13M3 5.5v8M13 5.5v8M1.5 8.5h13M6 8.5v5M10 8.5v5M2.5 5.5 4 3h8l1.5 2.5" />,
  link: (
    <path d="M7 4.5 8.5 3a3.2 3.2 0 0 1 4.5 4.5L11 9.5a3.2 3.2 0 0 1-4.5 0M9 11.5 7.5 13A3.2 3.2 0 0 1 3 8.5l2-2a3.2 3.2 0 0 1 4.5 0" />
  ),
  companion: (
    <>
      <circle cx="6" cy="8" r="4.2" />
      <circle cx="10" cy="8" r="4.2" />
    </>
  ),
  mail: <path d="M2 3.5h12v9H2zM2 4l6 5 6-5" />,
  hook: <path d="m5 4.5-3.5 3.5L5 11.5M11 4.5l3.5 3.5-3.5 3.5M9.2 3.5l-2.4 9" />,
  lock: <path d="M3.5 7h9v6.5h-9zM5.5 7V5a2.5 2.5 0 0 1 5 0v2" />,
  qr: (
    <path d="M2.5 2.5h4v4h-4zM9.5 2.5h4v4h-4zM2.5 9.5h4v4h-4zM9.5 9.5h1.5v1.5M13.5 9.5v4h-4M13.5 13.5h.1" />
  ),
  rehearse: <path d="M2.5 2.5h4.5v11H2.5zM9 2.5h4.5v11H9z" />,
  grip: (
    <path d="M6 3.5h.1M10 3.5h.1M6 8h.1M10 8h.1M6 12.5h.1M10 12.5h.1" strokeWidth="2" strokeLinecap="round" />
  ),
  more: <path d="M3 8h.1M8 8h.1M13 8h.1" />,
  setup: <path d="M2 5h4M9 5h5M2 11h6M11 11h3M7.5 3.5v3M9.5 9.5v3" />,
  moon: <path d="M13.5 9.5A6 6 0 0 1 6.5 2.5a6 6 0 1 0 7 7z" />,
  sun: (
    <>
      <circle cx="8" cy="8" r="3" />
      <path d="M8 1v1.5M8 13.5V15M1 8h1.5M13.5 8H15M3 3l1 1M12 12l1 1M13 3l-1 1M4 12l-1 1" />
    </>
  ),
  eye: (
    <>
      <path d="M1 8s2.5-4.5 7-4.5S15 8 15 8s-2.5 4.5-7 4.5S1 8 1 8z" />
      <circle cx="8" cy="8" r="2" />
    </>
  ),
  close: <path d="m4 4 8 8M12 4l-8 8" />,
  plus: <path d="M8 3v10M3 8h10" />,
  minus: <path d="M3 8h10" />,
  fit: <path d="M2 6V2h4M10 2h4v4M14 10v4h-4M6 14H2v-4" />,
  copy: <path d="M6 5.5h7.5V13H6zM6 10.5H2.5V3H10v2.5" />,
  caret: <path d="m6 4 4 4-4 4" />,
  down: <path d="m4 6 4 4 4-4" />,
  check: <path d="m3.5 8.5 3 3 6-7" />,
  door: <path d="M4 13.5V2.5h8v11M2.5 13.5h11M9.5 8v.5" />,
  tag: <path d="M2 2.5h5.5l6.5 6.5-5 5L2 7.5zM5 5.5v.1" />,
  claim: (
    <>
      <circle cx="8" cy="8" r="5.5" />
      <circle cx="8" cy="8" r=".6" />
    </>
  ),
  derived: <path d="M2.5 13.5h4.5l5-9M8.5 4.5 12 4l1 3.5" />,
  ribbon: <path d="M4 2.5h8v11L8 10.5l-4 3z" />,
  grid: <path d="M2 3h12v10H2zM2 6.5h12M6.5 6.5V13" />,
  pencil: <path d="m3 13 .8-3.2L11 2.5l2.5 2.5-7.3 7.2z" />,
} as const;

export type IconName = keyof typeof shapes;

export function Icon({ name }: { name: IconName }) {
  return (
    <svg className="icon" viewBox="0 0 16 16" aria-hidden="true">
      {shapes[name]}
    </svg>
  );
}

export function Mark() {
  return (
    <svg className="mark" viewBox="0 0 24 24" aria-hidden="true">
      <path className="sun" d="M8 18a4 4 0 0 1 8 0z" />
      <path d="M2.5 10 12 3.5l9.5 6.5M5.5 8.5V18M18.5 8.5V18M4 18h16" />
      <path className="lake" d="M7 21.5h10" />
    </svg>
  );
}
