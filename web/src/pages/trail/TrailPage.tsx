import "./trail.css";
import { Segmented } from "antd";
import { useState } from "react";
import type { ProxySettings } from "../../api/client";
import { useCheckup, useTrail, type Asked } from "../../api/queries";
import { Prose } from "../../components/parts";
import { Bars, Failed } from "../../components/states";
import { Lines } from "../setup/CheckupPanel";
import { configLines } from "./settings";
import { Answer, Others } from "./TrailAnswer";
import { Pasted, AsRead, Believed } from "./TrailRequest";

const sample = {
  peer: "203.0.113.4",
  text: "X-Forwarded-For: 192.0.2.10, 198.51.100.7, 198.18.7.114, 203.0.113.10\nX-Real-IP: 192.0.2.10\nForwarded: for=_hidden;proto=https\nHost: heronlake.example",
};

type Source = "Pasted" | "This request";

/** TrailPage explains hop by hop how the visitor of a request is found, and what other settings would find. */
export function TrailPage() {
  const inUse = useCheckup().data?.settings;
  const [source, setSource] = useState<Source>("Pasted");
  const [draft, setDraft] = useState(sample);
  const [asked, setAsked] = useState<Asked>(sample);
  const [settings, setSettings] = useState<ProxySettings | null>(null);
  const trail = useTrail(source === "Pasted" ? asked : null, settings);
  const current = settings ?? inUse;
  return (
    <div className="trailpage">
      <section className="panel trail-request" aria-label="Request">
        <div className="placehead-row">
          <h2 className="panel-title">Request</h2>
          <Segmented<Source>
            options={["Pasted", "This request"]}
            value={source}
            onChange={setSource}
            aria-label="Request"
          />
        </div>
        {source === "Pasted" ? (
          <Pasted draft={draft} onChange={setDraft} onExplain={() => setAsked(draft)} />
        ) : (
          <p className="second">The request that this page made to the service.</p>
        )}
        {trail.data && <AsRead trail={trail.data} />}
        {current && <Believed settings={current} changed={settings !== null} onChange={setSettings} />}
        {trail.data && trail.data.notes.length > 0 && (
          <>
            <h3 className="panel-title">Other headers</h3>
            {trail.data.notes.map((n) => (
              <p key={n} className="small second">
                <Prose text={n} />
              </p>
            ))}
          </>
        )}
      </section>
      <section className="panel trail-answer" aria-label="Trail" aria-live="polite">
        {trail.isPending ? (
          <Bars label="The trail is loading" />
        ) : trail.isError ? (
          <Failed
            what="The request could not be explained."
            error={trail.error}
            retry={() => void trail.refetch()}
          />
        ) : (
          <Answer trail={trail.data} />
        )}
      </section>
      {inUse && <Others asked={source === "Pasted" ? asked : null} inUse={inUse} trail={trail.data} />}
      {settings && (
        <section className="panel trail-lines" aria-label="Configuration">
          <Lines lines={configLines(settings)} />
        </section>
      )}
    </div>
  );
}
