import { Modal } from "antd";
import { geoNaturalEarth1, geoPath } from "d3-geo";
import { useMemo, useState } from "react";
import { useCountryChoices } from "../../api/queries";
import { Country } from "../../components/parts";
import { useOutlines } from "../../features/map/world";

const width = 820;
const height = 420;

/** CountryPicker picks countries on a map of the world; the list below is its twin for the keyboard. */
export function CountryPicker(props: {
  chosen: string[];
  onDone: (codes: string[]) => void;
  onClose: () => void;
}) {
  const [chosen, setChosen] = useState(props.chosen);
  const outlines = useOutlines("110m");
  const countries = useCountryChoices().data?.countries ?? [];
  const nameOf = (code: string) => countries.find((c) => c.country_code === code)?.name ?? code;
  const toggle = (code: string) =>
    setChosen(chosen.includes(code) ? chosen.filter((c) => c !== code) : [...chosen, code]);
  const shapes = useMemo(() => {
    const path = geoPath(geoNaturalEarth1().fitSize([width, height], { type: "Sphere" })).digits(1);
    return {
      globe: path({ type: "Sphere" }) ?? "",
      countries: (outlines?.countries ?? []).map((c) => ({ code: c.code, d: path(c.shape) ?? "" })),
    };
  }, [outlines]);
  return (
    <Modal
      open
      width={900}
      title="Pick countries"
      okText={`Take ${chosen.length}`}
      onOk={() => props.onDone(chosen)}
      onCancel={props.onClose}
    >
      <svg
        className="gate-world"
        viewBox={`0 0 ${width} ${height}`}
        role="img"
        aria-label="Map of the world; the list below says the same"
      >
        <path d={shapes.globe} className="water" />
        {shapes.countries.map((c, i) => (
          <path
            key={`${c.code}${i}`}
            d={c.d}
            className={chosen.includes(c.code) ? "land chosen" : "land"}
            onClick={() => c.code && toggle(c.code)}
          >
            <title>{nameOf(c.code)}</title>
          </path>
        ))}
      </svg>
      <div className="gate-countries" role="group" aria-label="Countries">
        {countries.map((c) => (
          <label key={c.country_code}>
            <input
              type="checkbox"
              checked={chosen.includes(c.country_code)}
              onChange={() => toggle(c.country_code)}
            />
            <Country code={c.country_code} name={c.name} />
          </label>
        ))}
      </div>
    </Modal>
  );
}
