# Adds access control entries to a container of a running domain controller.
# Arguments: the controller's configuration, its database, the account, the
# container's name, and entries in SDDL with SID-OF-THE-ACCOUNT in them.
import sys

import ldb
from samba.auth import system_session
from samba.dcerpc import security
from samba.ndr import ndr_pack, ndr_unpack
from samba.param import LoadParm
from samba.samdb import SamDB

lp = LoadParm()
lp.load(sys.argv[1])
db = SamDB(url=sys.argv[2], session_info=system_session(), lp=lp)
found = db.search(str(db.domain_dn()), scope=ldb.SCOPE_SUBTREE, expression="(sAMAccountName=%s)" % sys.argv[3], attrs=["objectSid"])
sid = str(ndr_unpack(security.dom_sid, found[0]["objectSid"][0]))
container = db.search(sys.argv[4], scope=ldb.SCOPE_BASE, attrs=["nTSecurityDescriptor"], controls=["sd_flags:1:4"])[0]
descriptor = ndr_unpack(security.descriptor, container["nTSecurityDescriptor"][0])
for text in sys.argv[5:]:
    grant = security.descriptor.from_sddl("D:" + text.replace("SID-OF-THE-ACCOUNT", sid), security.dom_sid(db.get_domain_sid()))
    for ace in grant.dacl.aces:
        descriptor.dacl_add(ace)
change = ldb.Message(container.dn)
change["nTSecurityDescriptor"] = ldb.MessageElement(ndr_pack(descriptor), ldb.FLAG_MOD_REPLACE, "nTSecurityDescriptor")
db.modify(change, controls=["sd_flags:1:4"])
