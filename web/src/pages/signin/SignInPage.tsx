import "./signin.css";
import { App, Button, Input } from "antd";
import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import { createPortal } from "react-dom";
import { useNavigate } from "react-router";
import { Refusal } from "../../api/client";
import { Icon } from "../../components/icons";
import { usePreferences } from "../../components/preferences";
import { Sky } from "./Sky";

/** triesLeft reads how many tries the service still allows this minute. */
function triesLeft(header: string | null): string | null {
  const left = header?.match(/^"sign-in";r=(\d+)/)?.[1];
  return left === undefined ? null : `${left} of 5 tries left this minute.`;
}

/** signIn opens a session; it throws a Refusal. The session stands in a cookie that scripts cannot read. */
async function signIn(body: { key: string } | { link: string }): Promise<void> {
  const response = await fetch("/v1/sessions", {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  if (response.ok) return;
  const problem = (await response.json()) as Refusal["problem"];
  const left = triesLeft(response.headers.get("RateLimit"));
  throw new Refusal({ ...problem, hint: [problem.hint, left].filter(Boolean).join(" ") });
}

/**
 * SignInOver is the sign-in page over another, which can be neither seen nor reached meanwhile, and stays as it is. It
 * stands beside root, since what is open in root keeps the focus to itself.
 */
export function SignInOver({ root }: { root: HTMLElement }) {
  const [place] = useState(() => Object.assign(document.createElement("div"), { className: "signin-over" }));
  useLayoutEffect(() => {
    document.body.append(place);
    root.toggleAttribute("inert", true);
    root.classList.add("signin-behind");
    place.querySelector("input")?.focus(); // which had no place to be focused in before
    return () => {
      place.remove();
      root.toggleAttribute("inert", false);
      root.classList.remove("signin-behind");
    };
  }, [place, root]);
  return createPortal(<SignInPage over />, place);
}

/**
 * SignInPage takes an admin key, or the one-time link behind # in the page's address. With over it stands over a page
 * whose session has ended.
 */
export function SignInPage({ over = false }: { over?: boolean }) {
  const { message } = App.useApp();
  const { mode, toggleMode } = usePreferences();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [key, setKey] = useState("");
  const [busy, setBusy] = useState(false);
  const [failed, setFailed] = useState<Refusal | null>(null);

  const enter = useCallback(
    async (body: { key: string } | { link: string }) => {
      setBusy(true);
      try {
        await signIn(body);
        const here = window.location.pathname;
        if (here === "/sign-in") await navigate("/visits", { replace: true });
        await (over ? queries.invalidateQueries() : queries.resetQueries());
      } catch (error) {
        setFailed(
          error instanceof Refusal
            ? error
            : new Refusal({
                type: "about:blank",
                title: "The service does not answer",
                status: 0,
                detail: "No answer came over the network.",
                hint: "Check that the service runs, then try again.",
                request_id: "",
              }),
        );
      } finally {
        setBusy(false);
      }
    },
    [navigate, over, queries],
  );

  // The link is good once, so it is spent once, and leaves the page's address.
  const spent = useRef(false);
  useEffect(() => {
    const before = document.title;
    document.title = "Sign in · East Porch";
    return () => {
      if (over) document.title = before;
    };
  }, [over]);
  useEffect(() => {
    if (over) return;
    const link = window.location.hash.slice(1);
    if (!link || spent.current) return;
    spent.current = true;
    window.history.replaceState(null, "", "/sign-in");
    queueMicrotask(() => void enter({ link }));
  }, [enter, over]);

  const command = "eastporch login LINK";
  return (
    <div className="signin">
      <Sky />
      <main className="signin-main">
        <button
          type="button"
          className="iconbutton signin-mode"
          aria-label={`Turn to ${mode === "dark" ? "light" : "dark"}`}
          onClick={toggleMode}
        >
          <Icon name={mode === "dark" ? "sun" : "moon"} />
        </button>
        <form
          className="signin-form"
          onSubmit={(e) => {
            e.preventDefault();
            if (key.trim()) void enter({ key: key.trim() });
          }}
        >
          <h1 className="serif place">Sign in</h1>
          <p className="second">
            {over ? (
              "Your session has ended. The page behind is as you left it, with all that you typed."
            ) : (
              <>
                The console of East Porch, at <code>{window.location.host}</code>.
              </>
            )}
          </p>
          <label htmlFor="admin-key">
            <b>Admin key</b>
          </label>
          <Input.Password
            id="admin-key"
            size="large"
            className="mono"
            autoComplete="off"
            autoFocus
            value={key}
            status={failed ? "error" : ""}
            aria-describedby="admin-key-hint"
            onChange={(e) => setKey(e.target.value)}
          />
          {failed ? (
            <p id="admin-key-hint" className="signin-failed" role="alert">
              {failed.problem.title}. {failed.problem.detail} {failed.problem.hint}
            </p>
          ) : (
            <p id="admin-key-hint" className="small second">
              Begins with <code>porch_admin_</code>. It never stays in this browser.
            </p>
          )}
          <Button type="primary" size="large" htmlType="submit" block loading={busy} disabled={!key.trim()}>
            Sign in
          </Button>
          {!over && (
            <>
              <hr />
              <p>
                <b>First time here?</b>
                <br />
                <span className="second">
                  Open the link the service printed when it first started; it works once. On the command line:
                </span>
              </p>
              <div className="signin-command">
                <code>{command}</code>
                <Button
                  type="text"
                  icon={<Icon name="copy" />}
                  onClick={() =>
                    void navigator.clipboard.writeText(command).then(() => message.success("Copied."))
                  }
                >
                  Copy
                </Button>
              </div>
            </>
          )}
        </form>
        <p className="small second signin-foot">
          Sessions end after 30 minutes without activity, and after 12 hours. Attempts are limited and
          recorded.
        </p>
      </main>
    </div>
  );
}
