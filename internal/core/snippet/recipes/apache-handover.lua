-- Removes the fields that only we may write, asks East Porch about a request, and puts the
-- answer into its header fields. The key is one of scope server, whose requests count
-- against its own limit and not the visitor's.
local socket = require "socket"
local service, site, key = "127.0.0.1:8080", "heronlake.example", "KEY"
local connect_within, answer_within = 0.25, 1 -- seconds

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
    -- "Connection: Porch-Gate" would have mod_proxy remove the field; only Upgrade passes.
    local connection = r.headers_in["Connection"]
    if connection then
        r.headers_in["Connection"] = connection:lower():find("upgrade", 1, true) and "Upgrade" or nil
    end
end

-- ask gives the lines of the answer's header, or none.
local function ask(r)
    local host, port = service:match("^%[?(.-)%]?:(%d+)$")
    local list = r.headers_in["X-Forwarded-For"]
    local lines = {
        "GET /v1/handover?site=" .. site .. " HTTP/1.0",
        "Host: " .. service,
        "Authorization: Bearer " .. key,
        "X-Forwarded-For: " .. (list and list .. ", " or "") .. r.useragent_ip,
    }
    for _, name in ipairs({ "Accept-Language", "Cookie" }) do
        local value = r.headers_in[name]
        if value then
            lines[#lines + 1] = name .. ": " .. value
        end
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
    remove_ours(r)
    local asked, answer = pcall(ask, r)
    if asked and answer[1] and answer[1]:match("^HTTP/1%.%d 204") then
        for _, line in ipairs(answer) do
            local name, value = line:match("^(Porch%-[%w-]+): (.*)$")
            if name then
                r.headers_in[name] = value
            end
        end
    end
    return apache2.DECLINED -- the page is served, with facts or without
end
