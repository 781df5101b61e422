import { theme as antd, type ThemeConfig } from "antd";
import tokens from "./tokens.json";

export type Mode = "light" | "dark";

/** variables gives the colour tokens of a mode as the custom properties --ep-… of the root element. */
export function variables(mode: Mode): Record<string, string> {
  const flat: Record<string, string> = {};
  for (const [name, value] of Object.entries(tokens[mode])) {
    if (Array.isArray(value)) value.forEach((v, i) => (flat[`--ep-${name}${i + 1}`] = String(v)));
    else flat[`--ep-${name}`] = String(value);
  }
  return flat;
}

const shared: ThemeConfig = {
  token: {
    fontFamily: "'Source Sans 3 Variable', system-ui, sans-serif",
    fontFamilyCode: "'Source Code Pro Variable', ui-monospace, monospace",
    fontSize: 15,
    fontSizeSM: 13,
    fontSizeLG: 16,
    lineHeight: 1.45,
    borderRadius: 6,
    borderRadiusLG: 10,
    borderRadiusSM: 4,
    controlHeight: 34,
    controlHeightSM: 28,
    controlHeightLG: 44,
    lineWidthFocus: 3,
    boxShadow: "0 6px 24px -8px rgb(21 38 44 / .22)",
    boxShadowSecondary: "0 6px 24px -8px rgb(21 38 44 / .22)",
    motionDurationMid: "0.16s",
  },
  components: {
    Button: { primaryShadow: "none", defaultShadow: "none", fontWeight: 600, contentFontSizeLG: 15 },
    Table: {
      headerBg: "transparent",
      headerSplitColor: "transparent",
      cellPaddingBlockSM: 6,
      cellPaddingInlineSM: 12,
    },
  },
};

/** themeOf is the Ant Design theme of a mode, made of the colour tokens. */
export function themeOf(mode: Mode): ThemeConfig {
  const t = tokens[mode];
  const seeds = {
    colorPrimary: t.primary,
    colorInfo: t.primary,
    colorSuccess: t.ok,
    colorWarning: t.dawn,
    colorError: t.bad,
    colorLink: t.primary,
  };
  return {
    cssVar: { key: `ep-${mode}` },
    algorithm:
      mode === "dark"
        ? // The dark algorithm re-mixes the seeds, so a last function puts them back.
          [antd.darkAlgorithm, (seed, map) => ({ ...(map ?? antd.darkAlgorithm(seed)), ...seeds })]
        : antd.defaultAlgorithm,
    token: {
      ...shared.token,
      ...seeds,
      colorPrimaryHover: t.primaryHover,
      colorPrimaryActive: t.primaryActive,
      colorPrimaryBg: t.primaryBg,
      colorLinkHover: t.primaryHover,
      colorSuccessBg: t.okBg,
      colorWarningBg: t.dawnBg,
      colorErrorBg: t.badBg,
      colorTextLightSolid: t.onPrimary,
      colorBgLayout: t.page,
      colorBgContainer: t.surface,
      colorBgElevated: t.raised,
      colorText: t.ink,
      colorTextSecondary: t.ink2,
      colorTextTertiary: t.ink3,
      colorTextQuaternary: t.lineStrong,
      colorTextPlaceholder: t.ink3,
      colorTextDescription: t.ink3,
      colorBorder: t.lineStrong,
      colorBorderSecondary: t.line,
      colorSplit: t.line,
      colorFill: t.line,
    },
    components: {
      Button: { ...shared.components?.Button, primaryColor: t.onPrimary },
      Table: {
        ...shared.components?.Table,
        headerColor: t.ink3,
        rowHoverBg: t.sunken,
        borderColor: t.line,
      },
      Segmented: {
        trackBg: mode === "dark" ? t.page : t.line,
        itemSelectedBg: t.raised,
        itemColor: t.ink2,
        itemSelectedColor: t.ink,
      },
      Skeleton: { gradientFromColor: t.line, gradientToColor: t.sunken },
      Switch: { handleBg: mode === "dark" ? t.ink : t.raised },
    },
  };
}
