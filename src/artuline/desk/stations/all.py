"""All stations, in the order of the work."""

from artuline.desk.station import Station
from artuline.desk.stations.blend.station import Blend
from artuline.desk.stations.bodies.station import Bodies
from artuline.desk.stations.cast.station import Cast
from artuline.desk.stations.curves.station import Curves
from artuline.desk.stations.flesh.station import Flesh
from artuline.desk.stations.joints.station import Joints
from artuline.desk.stations.props.station import Props
from artuline.desk.stations.strands.station import Strands
from artuline.desk.stations.takes.station import Takes

STATIONS: tuple[type[Station], ...] = (Cast, Bodies, Joints, Props, Strands, Flesh, Blend, Takes, Curves)
