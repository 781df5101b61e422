-- Asks East Porch about a request, and puts the answer into its header fields.
local url, site, key = os.getenv("PORCH_HANDOVER"), os.getenv("PORCH_SITE"), os.getenv("PORCH_KEY")
local within = 1000 -- milliseconds

local function lines(list)
    local all = {}
    if list then
        for i = 0, #list do
            all[#all + 1] = list[i]
        end
    end
    return all
end

core.register_action("porch_handover", { "http-req" }, function(txn)
    local asked = txn.http:req_get_headers()
    local forwarded = lines(asked["x-forwarded-for"])
    forwarded[#forwarded + 1] = tostring(txn.f:src())
    local headers = {
        ["host"] = { site },
        ["authorization"] = { "Bearer " .. key },
        ["x-forwarded-for"] = { table.concat(forwarded, ", ") },
    }
    for _, name in ipairs({ "accept-language", "cookie" }) do
        local sent = lines(asked[name])
        if #sent > 0 then
            headers[name] = { table.concat(sent, name == "cookie" and "; " or ", ") }
        end
    end
    local answer = core.httpclient():get({ url = url, headers = headers, timeout = within })
    if answer == nil or answer.status ~= 204 then
        return -- the page is served without
    end
    for name, values in pairs(answer.headers) do
        if name:sub(1, 6) == "porch-" then
            txn.http:req_set_header(name, values[0])
        end
    end
end)
