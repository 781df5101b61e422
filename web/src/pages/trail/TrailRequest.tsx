import { Button, Input, InputNumber, Select } from "antd";
import type { Hop, ProxySettings, Trail } from "../../api/client";
import { maskText } from "../../features/presentation/mask";
import { Addr, Prose } from "../../components/parts";
import { usePreferences } from "../../components/preferences";

interface PastedProps {
  draft: { peer: string; text: string };
  onChange: (draft: { peer: string; text: string }) => void;
  onExplain: () => void;
}

interface BelievedProps {
  settings: ProxySettings;
  changed: boolean;
  onChange: (settings: ProxySettings | null) => void;
}

export function Pasted({ draft, onChange, onExplain }: PastedProps) {
  const { presenting } = usePreferences();
  if (presenting) return <pre className="json mono">{maskText(`peer ${draft.peer}\n${draft.text}`)}</pre>;
  return (
    <form
      className="keyform"
      onSubmit={(e) => {
        e.preventDefault();
        onExplain();
      }}
    >
      <label>
        Peer, the other end of the connection
        <Input
          className="mono"
          value={draft.peer}
          spellCheck={false}
          onChange={(e) => onChange({ ...draft, peer: e.target.value.trim() })}
        />
      </label>
      <label>
        Headers, the output of curl -v, or a HAR file
        <Input.TextArea
          className="mono"
          rows={5}
          value={draft.text}
          spellCheck={false}
          onChange={(e) => onChange({ ...draft, text: e.target.value })}
        />
      </label>
      <div>
        <Button htmlType="submit">Explain it</Button>
      </div>
    </form>
  );
}

/** AsRead shows the believed header again, each address marked by its verdict. */
export function AsRead({ trail }: { trail: Trail }) {
  const peer = trail.hops.find((h) => h.source === "peer");
  const listed = trail.hops.filter((h) => h.source !== "peer").reverse();
  return (
    <div className="asread">
      <dl className="mono small">
        {peer && (
          <>
            <dt className="second">peer</dt>
            <dd>
              <Marked hop={peer} />
            </dd>
          </>
        )}
        {listed[0] && (
          <>
            <dt className="second">{listed[0].source}</dt>
            <dd>
              {listed.map((h, i) => (
                <span key={i}>
                  {i > 0 && ", "}
                  <Marked hop={h} />
                </span>
              ))}
            </dd>
          </>
        )}
      </dl>
      <p className="small second legend">
        <span className="marked trusted">trusted</span> <span className="marked visitor">visitor</span>{" "}
        <span className="marked unverified">unverified</span>{" "}
        <span className="marked unreadable">unreadable</span>
      </p>
    </div>
  );
}

function Marked({ hop }: { hop: Hop }) {
  return (
    <span className={`marked ${hop.verdict}`}>
      <Prose text={hop.text} />
    </span>
  );
}

export function Believed({ settings, changed, onChange }: BelievedProps) {
  const { presenting } = usePreferences();
  const headers = ["X-Forwarded-For", "Forwarded", "X-Real-Ip"];
  if (!headers.includes(settings.header)) headers.push(settings.header);
  return (
    <div className="believed">
      <div className="placehead-row">
        <h3 className="panel-title">Believed</h3>
        {changed ? (
          <button type="button" className="textlink" onClick={() => onChange(null)}>
            Back to the current settings
          </button>
        ) : (
          <span className="small second">in use; change it to try</span>
        )}
      </div>
      <div className="fact">
        <span className="second">Header</span>
        <Select
          aria-label="Header"
          value={settings.header}
          options={headers.map((h) => ({ value: h, label: h }))}
          onChange={(header) => onChange({ ...settings, header })}
        />
      </div>
      <div className="fact">
        <span className="second">Trusted proxies</span>
        {presenting ? (
          <span>
            {settings.trusted.map((t) => (
              <Addr key={t} text={t} />
            ))}
          </span>
        ) : (
          <Select
            mode="tags"
            open={false}
            suffixIcon={null}
            aria-label="Trusted proxies"
            tokenSeparators={[" ", ","]}
            value={settings.trusted}
            onChange={(trusted: string[]) => onChange({ ...settings, trusted })}
          />
        )}
      </div>
      <div className="fact">
        <span className="second">Hops</span>
        <span>
          <InputNumber
            aria-label="Hops"
            min={0}
            max={32}
            value={settings.hops}
            onChange={(hops) => onChange({ ...settings, hops: hops ?? 0 })}
          />{" "}
          <span className="small second">0: go by prefixes</span>
        </span>
      </div>
    </div>
  );
}
