-- Asks East Porch about a request, and puts the answer into its header fields. The section
-- "listen porch" gives up on a service that is away; a client with retries of its own, as
-- core.httpclient is one, would wait for it several times over.
local site, key = os.getenv("PORCH_SITE"), os.getenv("PORCH_KEY")
local when_down = os.getenv("PORCH_DOWN") -- admit or refuse

local function joined(list, by)
    local all = {}
    if list then
        for i = 0, #list do
            all[#all + 1] = list[i]
        end
    end
    return #all > 0 and table.concat(all, by) or nil
end

-- ask gives the lines of the answer's header, or none.
local function ask(txn)
    local sent = txn.http:req_get_headers()
    local list = joined(sent["x-forwarded-for"], ", ")
    local lines = {
        "GET /v1/handover?site=" .. site .. " HTTP/1.0",
        "Authorization: Bearer " .. key,
        "X-Forwarded-For: " .. (list and list .. ", " or "") .. tostring(txn.f:src()),
        "Porch-Original-Method: " .. txn.f:method(),
        "Porch-Original-Target: " .. txn.f:url(),
        "Porch-Original-Scheme: " .. (txn.f:ssl_fc() == 1 and "https" or "http"),
    }
    local cookies, ours = "; " .. (joined(sent["cookie"], "; ") or ""), {}
    for _, name in ipairs({ "porch_choice", "porch_pass" }) do
        local value = cookies:match("; *" .. name .. "=([^;]*)")
        if value then
            ours[#ours + 1] = name .. "=" .. value
        end
    end
    for name, value in pairs({
        ["Porch-Original-Host"] = joined(sent["host"], ""), ["Porch-Rehearsal"] = txn:get_var("txn.porch_rehearsal"),
        ["Accept-Language"] = joined(sent["accept-language"], ", "), ["Cookie"] = #ours > 0 and table.concat(ours, "; ") or nil,
    }) do
        lines[#lines + 1] = name .. ": " .. value
    end
    local asked, answer = core.tcp(), {}
    asked:settimeout(2)
    if asked:connect("127.0.0.1", 8079) and asked:send(table.concat(lines, "\r\n") .. "\r\n\r\n") then
        local line = asked:receive("*l")
        while line and line ~= "" and line ~= "\r" do
            answer[#answer + 1] = line
            line = asked:receive("*l")
        end
    end
    asked:close()
    return answer
end

-- What the section "listen porch" answers itself for a service that is silent.
local silence = { ["502"] = true, ["503"] = true, ["504"] = true }

core.register_action("porch_handover", { "http-req" }, function(txn)
    local asked, answer = pcall(ask, txn)
    local status = asked and answer[1] and answer[1]:match("^HTTP/1%.%d (%d+)")
    local fields = {}
    for _, line in ipairs(asked and answer or {}) do
        local name, value = line:match("^([Pp]orch%-[%w-]+): ([^\r]*)")
        if name then
            fields[name:lower()] = value
            if status == "204" then
                txn.http:req_set_header(name, value)
            end
        end
    end
    if fields["porch-rehearsal"] then
        txn:set_var("txn.porch_rehearsed", "1")
    end
    if status == "204" then
        return
    end
    if status == "403" and fields["porch-gate"] == "refuse" then
        txn:set_var("txn.porch_gate", "refuse")
        txn:set_var("txn.porch_reference", fields["porch-gate-reference"])
        return
    end
    if fields["porch-gate"] == "none" then -- the key or the site is not known to it, and no gate stands there
        return
    end
    -- It answered and did not admit, or is to refuse when it is silent.
    if when_down == "refuse" or status and (fields["porch-gate"] or not silence[status]) then
        txn:set_var("txn.porch_gate", "down")
    end
end)
