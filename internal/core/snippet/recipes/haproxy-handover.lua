-- Asks East Porch about a request, and puts the answer into its header fields. The section
-- "listen porch" gives up on a service that is away; a client with retries of its own, as
-- core.httpclient is one, would wait for it several times over.
local site, key = os.getenv("PORCH_SITE"), os.getenv("PORCH_KEY")

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
    }
    for name, by in pairs({ ["accept-language"] = ", ", ["cookie"] = "; " }) do
        local value = joined(sent[name], by)
        if value then
            lines[#lines + 1] = name .. ": " .. value
        end
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

core.register_action("porch_handover", { "http-req" }, function(txn)
    local asked, answer = pcall(ask, txn)
    if not asked or not answer[1] or not answer[1]:match("^HTTP/1%.%d 204") then
        return -- the page is served without
    end
    for _, line in ipairs(answer) do
        local name, value = line:match("^([Pp]orch%-[%w-]+): ([^\r]*)")
        if name then
            txn.http:req_set_header(name, value)
        end
    end
end)
