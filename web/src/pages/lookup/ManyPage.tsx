import "./lookup.css";
import "./many.css";
import { Button, Input } from "antd";
import { useState } from "react";
import { maskText } from "../../features/presentation/mask";
import { usePreferences } from "../../components/preferences";
import { Empty } from "../../components/states";
import { planOf, type Plan } from "./lines";
import { Work } from "./ManyWork";

/** most lines that the page takes; more is work for the command line. */
const mostLines = 200_000;
/** ManyPage answers for the addresses of a file or a list, in their order. */
export function ManyPage() {
  const [name, setName] = useState("");
  const [lines, setLines] = useState<string[]>([]);
  const [plan, setPlan] = useState<Plan | null>(null);
  const [refused, setRefused] = useState("");
  const begin = (title: string, text: string) => {
    const list = text.replace(/^\ufeff/, "").split(/\r?\n/);
    while (list.length > 0 && list[list.length - 1]?.trim() === "") list.pop();
    if (list.length === 0) return setRefused("There is no line in it.");
    if (list.length > mostLines)
      return setRefused(
        `It has more than ${mostLines.toLocaleString("en")} lines: use eastporch resolve - --output csv for it.`,
      );
    setRefused("");
    setName(title);
    setLines(list);
    setPlan(planOf(list));
  };
  if (plan === null) return <Choose onText={begin} refused={refused} />;
  return <Work name={name} lines={lines} plan={plan} onPlan={setPlan} onAgain={() => setPlan(null)} />;
}

function Choose(props: { onText: (name: string, text: string) => void; refused: string }) {
  const [text, setText] = useState("");
  const { presenting } = usePreferences();
  const read = async (file: File | undefined) => {
    if (file) props.onText(file.name, await file.text());
  };
  return (
    <section
      className="panel many-choose"
      aria-label="Addresses to look up"
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        void read(e.dataTransfer.files[0]);
      }}
    >
      <Empty
        title="Ask for many addresses at once."
        text="Choose or drop a file, or paste a list: one address a line, or a table with a column of them. Nothing leaves this service."
      >
        <label className="filebutton">
          <input
            type="file"
            className="unseen"
            aria-label="File of addresses"
            onChange={(e) => void read(e.target.files?.[0])}
          />
          <span>Choose a file</span>
        </label>
      </Empty>
      <Input.TextArea
        rows={6}
        className="mono"
        aria-label="List of addresses"
        placeholder={"198.18.3.40\n2001:db8:5e1:40::1f"}
        value={presenting ? maskText(text) : text}
        readOnly={presenting && text !== ""}
        onChange={(e) => setText(e.target.value)}
        onPaste={(e) => {
          if (!presenting) return;
          e.preventDefault(); // so that it never stands here as it is
          setText(e.clipboardData.getData("text"));
        }}
      />
      {props.refused && (
        <p className="signin-failed" role="alert">
          {props.refused}
        </p>
      )}
      <Button
        type="primary"
        size="large"
        disabled={text.trim() === ""}
        onClick={() => props.onText("the pasted list", text)}
      >
        Look them up
      </Button>
    </section>
  );
}
