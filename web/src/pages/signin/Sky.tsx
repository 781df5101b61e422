import { Mark } from "../../components/icons";

/** Sky is the mark drawn large: roof, posts, rail, lake and half a sun. It is decoration. */
export function Sky() {
  return (
    <div className="sky">
      <div className="brand serif">
        <Mark />
        East Porch
      </div>
      <p className="serif sky-line">
        Who just knocked,
        <br />
        and where from?
      </p>
      <svg viewBox="0 0 560 460" preserveAspectRatio="xMidYMax slice" aria-hidden="true">
        <path className="hill far" d="M0 282c70-40 120-24 190-2s100-44 170-28 120 30 200-16v100H0z" />
        <path className="hill near" d="M0 300c90-20 170 4 260-2s190 14 300-20v60H0z" />
        <path className="sun" d="M232 324a48 48 0 0 1 96 0z" />
        <path className="shore" d="M0 324h560" />
        <path className="glint" d="M240 340h80M222 356h116M252 372h56M262 388h36" />
        <path className="ripple" d="M100 342h64M128 364h34M390 350h62M410 374h44" />
        <path className="roof" d="M22 132 280 26l258 106" />
        <path className="post" d="M66 116v344M494 116v344" />
        <path className="rail-top" d="M66 412h428" />
        <path
          className="baluster"
          d="M108 412v48M151 412v48M194 412v48M237 412v48M280 412v48M323 412v48M366 412v48M409 412v48M452 412v48"
        />
      </svg>
    </div>
  );
}
