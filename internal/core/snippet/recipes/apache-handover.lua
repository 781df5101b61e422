-- Removes the fields that only we may write, asks East Porch about a request, and puts the
-- answer into its header fields. The key is one of scope server.
local socket = require "socket"
local service, site, key = "127.0.0.1:8080", "heronlake.example", "KEY"
local connect_within, answer_within = 0.25, 1 -- seconds
local when_down = "admit" -- while East Porch does not answer: "admit" (without facts) or "refuse"

-- Application servers read Porch_Gate and Porch.Gate as Porch-Gate: all spellings go.
local function is_ours(name)
    local folded = name:lower():gsub("[^a-z0-9]", "-")
    return folded:sub(1, 6) == "porch-" or folded == "forwarded" or folded == "x-real-ip"
        or folded == "x-forwarded-for" and name:lower() ~= folded
end

local function remove_ours(r)
    for name in pairs(r:headers_in_table()) do
        if is_ours(name) then
            r.headers_in[name] = nil
        end
    end
    -- "Connection: Porch-Gate" would have mod_proxy remove the field; only Upgrade and close pass.
    local connection = (r.headers_in["Connection"] or ""):lower()
    if connection ~= "" then
        r.headers_in["Connection"] = connection:find("upgrade", 1, true) and "Upgrade" or connection:find("close", 1, true) and "close" or nil
    end
end

-- ask gives the lines of the answer's header, or none.
local function ask(r, rehearsal)
    local host, port = service:match("^%[?(.-)%]?:(%d+)$")
    local list = r.headers_in["X-Forwarded-For"]
    local lines = {
        "GET /v1/handover?site=" .. site .. " HTTP/1.0",
        "Host: " .. service,
        "Authorization: Bearer " .. key,
        "X-Forwarded-For: " .. (list and list .. ", " or "") .. r.useragent_ip,
        "Porch-Original-Method: " .. r.method,
        "Porch-Original-Target: " .. r.unparsed_uri,
        "Porch-Original-Scheme: " .. (r.is_https and "https" or "http"),
        "Porch-Original-Host: " .. (r.headers_in["Host"] or ""),
    }
    local cookies, ours = "; " .. (r.headers_in["Cookie"] or ""), {}
    for _, name in ipairs({ "porch_choice", "porch_pass" }) do
        local value = cookies:match("; *" .. name .. "=([^;]*)")
        if value then
            ours[#ours + 1] = name .. "=" .. value
        end
    end
    for name, value in pairs({ ["Accept-Language"] = r.headers_in["Accept-Language"], ["Cookie"] = #ours > 0 and table.concat(ours, "; ") or nil, ["Porch-Rehearsal"] = rehearsal }) do
        lines[#lines + 1] = name .. ": " .. value
    end
    local asked = socket.tcp()
    asked:settimeout(connect_within)
    local answer = {}
    if asked:connect(host, port) then
        asked:settimeout(answer_within)
        asked:settimeout(answer_within, "t") -- in all
        if asked:send(table.concat(lines, "\r\n") .. "\r\n\r\n") then
            local line = asked:receive("*l")
            while line and line ~= "" do
                answer[#answer + 1] = line
                line = asked:receive("*l")
            end
        end
    end
    asked:close()
    return answer
end

function hand_over(r)
    local rehearsal = r.headers_in["Porch-Rehearsal"]
    remove_ours(r)
    local asked, answer = pcall(ask, r, rehearsal)
    local status = asked and answer[1] and answer[1]:match("^HTTP/1%.%d (%d+)")
    local fields = {}
    for _, line in ipairs(asked and answer or {}) do
        local name, value = line:match("^(Porch%-[%w-]+): ([^\r]*)")
        if name then
            fields[name] = value
        end
    end
    if fields["Porch-Rehearsal"] then
        r.err_headers_out["Porch-Rehearsal"], r.err_headers_out["Cache-Control"] = "1", "no-store"
    end
    if status == "204" then
        for name, value in pairs(fields) do
            r.headers_in[name] = value
        end
    elseif status == "403" and fields["Porch-Gate"] == "refuse" then
        r.err_headers_out["Cache-Control"] = "no-store"
        return tonumber(fields["Porch-Gate-Status"]) or 403 -- what is shown with it is for ErrorDocument
    elseif fields["Porch-Gate"] == "none" then -- the key or the site is not known to it, and no gate stands there
        return apache2.DECLINED
    elseif status or when_down == "refuse" then -- it answered and did not admit, or is to refuse when it is silent
        return 403
    end
    return apache2.DECLINED -- the page is served, with facts or without
end
