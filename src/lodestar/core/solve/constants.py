"""The solver's constants, one line each: the value, its unit, what it means, and where it is from.

"By trial" is a value that did best on the seeded and the rendered trial shots, whose figures are in docs/solve.md; "for speed" one
that is as small as it may be before results change there.
"""

from typing import NamedTuple

import numpy as np


class Constants(NamedTuple):
    # which solve is believed
    least_tracks: int = 24  # tracks under which nothing is solved; by trial
    least_link: int = 8  # tracks that must lead from one frame to the next; a pose takes 6 in theory, 2 more for wrong ones
    still_px: float = 1.0  # px, median way of a track under which the camera stands still; by trial
    still_off_px: float = 0.8  # px of the picture, deviation up to which a track stands still; by trial
    still_parts: float = 0.2  # of the picture, in which something stands still, from which the camera does: four real clips from a tripod 0.25 to 0.96, twelve that move 0.03 at most
    still_turn_px: float = 4.0  # px of the picture, turn of a camera under which it stands still: what it would tell of its lens is within the noise
    still_frames: int = 30  # frames that a track has to be seen to tell whether a still camera trembles; by trial
    still_tracks: int = 4  # such tracks in each half of a frame; by trial
    tremble_px: float = 0.05  # px, deviation by which a still camera has to tremble for it to be seen; by trial
    still_share: float = 0.1  # of what was followed, least that has to stand still where it is found to; by trial
    usual_focal: float = 0.94  # picture widths, 56 degrees across: the focal length where nothing tells it (common practice, no source)
    may_turn_px: float = 4.0  # px, what turning may leave for it to be finished too where a moving camera does not explain the tracks; by trial
    nearly_turning_noises: float = 4.0  # noises of the tracks, what turning may leave before the shot is called nearly turning; by trial
    far_worse: float = 0.4  # of what a moving camera explains; a turning one that explains less is not finished beside it; by trial
    rolling_rounds: int = 4  # rounds in which a readout is adjusted; by trial
    rolling_limits: float = 3.0  # times, by how much more an observation may be off while no readout is known; by trial
    rival_focal: float = 0.03  # share of the focal length by which it differs to be another one; by trial
    rival_deviations: float = 4.0  # stated deviations by which it differs to be another one; by trial
    constraint_deviations: float = 4.0  # deviations by which a known distance or direction may be off before it is doubted; 1 in 16,000 by chance
    compared_frames: int = 40  # frames by which lens centre and readout are tried; for speed
    rolling_gain: float = (
        0.01  # share of the cost that a readout must save to be spoken of; without one it saves 0.0002 (14 rendered shots), turning 0.005
    )
    rolling_clear: float = 0.1  # share of the cost that it must save to leave no doubt; by trial
    centre_gain: float = 0.01  # share of the cost that a lens centre elsewhere must save to be believed; by trial
    centre_share: float = 0.015  # share of the picture's width, deviation of a lens centre; common practice, no source
    clear_noises: float = 1.35  # noises of the tracks up to which a solve needs no other beside it; seeded shots end at 0.98 to 1.0
    close_error: float = 1.2  # times the error of the closer solve up to which another is as close; by trial
    least_zoom: float = 0.015  # share of the focal length by which it changes to be called a zoom; by trial
    zoom_costs: float = 1.1  # times, by how much better a zoom explains the tracks than one focal length; by trial
    move_costs: float = 2.0  # times, by how much closer (in squares) one that moves explains them than a lens that zooms on one that turns; by trial
    slip_points: int = 60  # points whose slip stands for the scene; for speed
    # a camera that moves
    focals: tuple[float, ...] = (0.9, 0.5, 1.6)  # picture widths, focal lengths to start from; the adjustment finds its way over a factor of two
    unexplained_px: float = 20.0  # px at which an observation counts as not explained at all while a solve begins; by trial
    least_noise_px: float = 0.1  # px, noise under which tracks are never taken to be; interpolation of pixels leaves as much
    least_parallax_px: float = 3.0  # px by which a point is seen to shift against infinity to have a place; by trial
    parallax_noises: float = 8.0  # noises of the tracks by which it is seen to shift; by trial
    reversal_way: float = 0.05  # of the depth, way of the camera up to which near and far may be exchanged; 0.01 leaning, 0.1 walking
    window: int = 16  # key frames that vary while the solve grows; for speed
    sure: float = 0.85  # share of explained observations at which no other start is tried; by trial
    least_points: int = 20  # points with which a start may go on; by trial
    least_rows: int = 24  # observations under which there is nothing to adjust by; 4 points in 3 frames
    closely_noises: float = 1.22  # noises beyond which a track is not explained; by trial
    long_life: int = 40  # frames beyond which a track counts no more; by trial
    flat_cost: float = 0.1  # cost of a start on one plane, which has two solutions; by trial
    missing_cost: float = 0.8  # cost of a key frame that has no pose; by trial
    apart_noises: float = 1.06  # noises beyond which a finished solve is taken apart; by trial on 24 seeded drifts
    in_common: float = (
        -0.005
    )  # share of its error that a track has in common with neighbours to be taken apart; two motions 0.02 to 0.2, noise -0.05 to -0.008
    neighbours: int = 3  # neighbours that are looked at; by trial
    compared: int = 100  # frames in which they are looked at; for speed
    suits_noises: float = 1.3  # noises (rms) up to which tracks that were led apart count; by trial
    rival_cost: float = 0.045  # cost by which a part led apart is still about as likely as another; by trial on seeded clips with water
    start_cost: float = 0.015  # cost by which a start is still about as likely as another; by trial on seeded clips with water
    most_apart: int = 3  # times that a solve is taken apart; for speed
    apart_gain: float = 0.03  # share of the observations that a part must explain more; by trial
    mostly: float = 0.7  # share of the observations that a finished solve should explain; by trial
    move_gain: float = 0.18  # share of the cost that a camera that moves explains more than one that turns; 16 of 16 seeded turns
    off_noises: float = 6.0  # noises by which an observation may be off; by trial
    forgiven: float = 0.1  # share of key frames that may be missing at no cost: most are placed later; by trial
    # a camera that turns
    turning_focals: tuple[float, ...] = (0.55, 0.9, 1.6)  # picture widths, focal lengths tried for a camera that turns; by trial
    turning_tracks: int = 300  # tracks by which turning is begun; for speed
    turning_keyframes: int = 30  # key frames by which turning is begun; for speed
    # where a solve begins
    start_pairs: int = 3  # pairs of frames from which a solve is begun; for speed
    group_px: float = 1.5  # px to epipolar lines of what moves alike; leaves room for distortion
    # lenses that zoom
    zoom_window: int = 32  # frames over which a zoom is taken to keep its speed; by trial
    zoom_near_px: float = 1.5  # px to epipolar lines; leaves room for distortion
    zoom_windows: int = 6  # windows over a clip in which a zoom is looked for; for speed
    zooms_from: float = (
        0.0018  # share a frame: constant lenses were given up to 0.0015, a zoom by 1.1 in 80 frames 0.0025 (80 seeded, 8 rendered shots)
    )
    zoom_worse: float = 1.4  # times as unlike: constant lenses up to 1.9 (1.35 on a flat scene), never with the speed; a zoom by 1.1 1.75 or more
    # who has a say
    spread: float = 2.5  # times that a track's rms goes into what one observation may be off, to count; what drifts along with water is within one
    loose_spread: float = 1.5  # the same, to have a place in the end; by trial
    # the adjustment
    inner_rounds: int = 3  # rounds of each point for every step of the cameras; for speed
    long_span: int = 40  # frames; longer tracks are gathered apart so that dense blocks of short ones stay small
    whole: int = 240  # frames up to which the reduced system is one block; for speed
    block: int = 120  # frames of a block in longer clips; no track may reach over more (`pieces` cuts them)
    least_damping: float = 1e-7  # share of the diagonal; keeps the seven freedoms of the frame of reference from running away
    zoom_change: float = 0.002  # share a frame and frame, deviation of a zoom's change of speed; common practice, no source
    # how far things slide
    samples: int = 48  # covariance samples; 95 % of them is known to 3 %
    slip_share: float = 0.95  # share of errors that stay under the stated slip; by definition
    slip_at_once: int = 64  # points of one round, so that memory stays small
    # what is known of the place
    distance_off: float = 0.005  # share, deviation of a distance that is told; what a tape measure leaves (common practice, no source)
    direction_off: float = np.deg2rad(
        0.5
    )  # radians, deviation of a direction that is told; what a builder's level leaves (common practice, no source)


SOLVER = Constants()
